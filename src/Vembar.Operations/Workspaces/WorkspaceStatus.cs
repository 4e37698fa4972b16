using Vembar.Common;
using Vembar.Images.Records;

namespace Vembar.Operations.Workspaces;

/// <summary>How a workspace stands.</summary>
/// <param name="Folder">The workspace.</param>
/// <param name="Archive">The image's archive.</param>
/// <param name="Image">The image as it was laid open, or saved last.</param>
/// <param name="Only">The paths that were laid open; none for all.</param>
/// <param name="Changes">What was changed since.</param>
/// <param name="Problems">What stands in the way of saving.</param>
/// <param name="Warnings">What should be known: it was moved, much of it is gone, the image is another by now.</param>
/// <param name="FilesRead">Files whose content was read to find out.</param>
/// <param name="Seconds">Time taken.</param>
public sealed record WorkspaceStatus(
    string Folder, string Archive, ImageRecord Image, IReadOnlyList<string> Only, IReadOnlyList<WorkspaceChange> Changes,
    IReadOnlyList<string> Problems, IReadOnlyList<Notice> Warnings, long FilesRead, double Seconds);
