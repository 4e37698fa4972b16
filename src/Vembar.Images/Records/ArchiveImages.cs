using Vembar.Common;
using Vembar.Images.Nodes;
using Vembar.Store.Reading;

namespace Vembar.Images.Records;

/// <summary>Images in an archive, for those who have it open.</summary>
public static class ArchiveImages
{
    extension(ArchiveReader archive)
    {
        /// <summary>The images, by their numbers.</summary>
        public IReadOnlyList<ImageRecord> Images => ImageCatalogue.Of(archive).Images;

        /// <summary>Images whose record is damaged in both copies; nothing else is known of them.</summary>
        public IReadOnlyList<LostImage> LostImages => ImageCatalogue.Of(archive).Lost;

        /// <summary>Finds an image.</summary>
        /// <param name="which">As in <see cref="ImageCatalogue.Find"/>.</param>
        /// <param name="clock">Tells which are retired; null for the system's clock.</param>
        /// <exception cref="VembarException">There is none, with the names that there are and the nearest.</exception>
        public ImageRecord Find(string? which, TimeProvider? clock = null) => ImageCatalogue.Of(archive).Find(which, clock);

        /// <summary>A number that orders contents as they lie in the archive, by the block that they begin in; -1 for nothing.</summary>
        internal long OrderOf(FileContent? content) => content is not { Length: > 0 } ? -1
            : archive.OrderOf(content.Parts is { Count: > 0 } parts ? parts[0].Id : content.List);
    }
}
