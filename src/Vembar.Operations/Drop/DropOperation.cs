using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Store.Compression;
using Vembar.Store.Places;
using Vembar.Store.Writing;

namespace Vembar.Operations.Drop;

/// <summary>Takes an image off an archive's list.</summary>
public static class DropOperation
{
    /// <summary>Takes the image off the list; its content stays in the file.</summary>
    /// <exception cref="VembarException">There is no such image, or the archive cannot be written.</exception>
    public static DropResult Run(ImageReference reference, TimeSpan wait, IFileSystem? fileSystem = null,
        CancellationToken cancellation = default)
    {
        using var writer =
            ArchiveWriter.Open(reference.Archive, create: false, Effort.Balanced, wait, fileSystem, cancellation: cancellation);
        var image = writer.Base.Find(reference.Which);
        writer.CommitDrop(image.Number, $"drop {image.Number} {image.Name}");
        return new DropResult(reference.Archive.Path, image, writer.Base.Images.Count - 1);
    }
}
