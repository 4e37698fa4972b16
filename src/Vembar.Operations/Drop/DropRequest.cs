using Vembar.Images.Records;

namespace Vembar.Operations.Drop;

/// <summary>Which image goes.</summary>
/// <param name="Image">The image.</param>
/// <param name="MayDrop">Asked before, with what goes; null for yes.</param>
/// <param name="Wait">How long to wait for another writer.</param>
public sealed record DropRequest(ImageReference Image, Func<ImageRecord, bool>? MayDrop, TimeSpan Wait);
