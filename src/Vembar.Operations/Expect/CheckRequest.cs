using Vembar.Volumes.Disks;

namespace Vembar.Operations.Expect;

/// <summary>What to compare with which expectations.</summary>
/// <param name="What">A folder or a disk; the text that names the image where it is one.</param>
/// <param name="Image">The image; null for a folder or a disk.</param>
/// <param name="Volume">Which volume of a disk; null for the one that holds Windows.</param>
/// <param name="Expectations">The file of expectations.</param>
/// <param name="Reading">How a disk is opened.</param>
public sealed record CheckRequest(string What, ImageReference? Image, int? Volume, string Expectations,
    DiskReading? Reading = null);
