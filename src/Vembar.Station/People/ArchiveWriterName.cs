namespace Vembar.Station.People;

/// <summary>Who adds to an archive.</summary>
/// <param name="Name">Their name.</param>
/// <param name="IsMachine">Whether it is a machine that is captured: it may add an image, and change nothing that is there.</param>
public sealed record ArchiveWriterName(string Name, bool IsMachine);
