namespace Vembar.Operations.Show;

/// <summary>What to read of an image.</summary>
/// <param name="Image">The image.</param>
/// <param name="LookIntoDrivers">Whether the files of added drivers are compared with their security catalogs; that reads them.</param>
/// <param name="PlanTidying">Whether it is tried what tidying would take out.</param>
public sealed record ShowRequest(ImageReference Image, bool LookIntoDrivers = false, bool PlanTidying = false);
