using Vembar.Images.Records;
using Vembar.Operations.Show;

namespace Vembar.Operations.Report;

/// <summary>An image, where it comes from, and what it holds.</summary>
/// <param name="Record">Its record.</param>
/// <param name="Source">What was captured in the beginning: the path of a disk, a volume or a folder; empty when that is not known.</param>
/// <param name="Parent">The number of the image of this archive that it was made from; null for none that is still there.</param>
/// <param name="Contents">Programs, drivers and packages.</param>
public sealed record ReportedImage(ImageRecord Record, string Source, int? Parent, ShowResult Contents);
