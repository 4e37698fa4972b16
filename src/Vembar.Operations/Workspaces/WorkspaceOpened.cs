using Vembar.Images.Records;

namespace Vembar.Operations.Workspaces;

/// <summary>What laying an image open did.</summary>
/// <param name="Folder">The workspace.</param>
/// <param name="Image">The image.</param>
/// <param name="Files">Files and links laid.</param>
/// <param name="Bytes">Their bytes.</param>
/// <param name="Seconds">Time taken.</param>
/// <param name="Warnings">What should be known.</param>
public sealed record WorkspaceOpened(string Folder, ImageRecord Image, long Files, long Bytes, double Seconds,
    IReadOnlyList<string> Warnings)
{
    /// <summary>The folder in a workspace that is Vembar's own.</summary>
    public const string OwnFolder = ".vembar-workspace";
}
