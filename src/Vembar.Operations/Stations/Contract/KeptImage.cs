namespace Vembar.Operations.Stations.Contract;

/// <summary>User files of a machine that are kept at the station until they are back on its disk.</summary>
/// <param name="Image">The image's number in the archive of the machine's user files.</param>
/// <param name="Root">The hash of its root folder.</param>
public sealed record KeptImage(int Image, string Root);
