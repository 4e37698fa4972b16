using System.Text.Json;
using Vembar.Common;
using Vembar.Images.Nodes;
using Vembar.Store.Format;
using Vembar.Store.Reading;
using Vembar.Store.Writing;

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
        /// <param name="which">A number, a name (compared without case), or "last"; null means the only one.</param>
        /// <exception cref="VembarException">There is none, with the names that there are and the nearest.</exception>
        public ImageRecord Find(string? which) => ImageCatalogue.Of(archive).Find(which);

        /// <summary>A number that orders contents as they lie in the archive, by the block that they begin in; -1 for nothing.</summary>
        internal long OrderOf(FileContent? content) => content is not { Length: > 0 } ? -1
            : archive.OrderOf(content.Parts is { Count: > 0 } parts ? parts[0].Id : content.List);
    }

    extension(ArchiveWriter writer)
    {
        /// <summary>Stores an image's record and makes a new state that lists it.</summary>
        /// <param name="record">The record; its number is replaced by the next free one unless it replaces an image.</param>
        /// <param name="replace">The number of the image that it takes the place of, or null.</param>
        /// <param name="change">What was done, for the archive's history.</param>
        /// <returns>The record as stored.</returns>
        public ImageRecord CommitImage(ImageRecord record, int? replace, string change)
        {
            writer.Settle();
            var catalogue = writer.Base.Catalogue;
            // A change of the record alone leaves what the image once added.
            record = record with
            {
                Number = replace ?? catalogue.NextNumber,
                BytesAdded = replace is not null && writer.BytesStored == 0 ? record.BytesAdded : writer.BytesStored + writer.IndexLength,
            };
            var entry = writer.Store(record);
            writer.Commit(catalogue with
            {
                NextNumber = replace is null ? record.Number + 1 : catalogue.NextNumber,
                Change = change,
                Images = [.. catalogue.Images.Where(i => i.Number != record.Number), entry],
            });
            return record;
        }

        /// <summary>Makes a new state that lists the given images under the numbers they have.</summary>
        internal void CommitRecovered(IReadOnlyList<ImageRecord> images, string change) => writer.CommitWhole(new Catalogue
        {
            Change = change,
            NextNumber = images.Select(i => i.Number).Append(0).Max() + 1,
            Images = [.. images.Select(writer.Store)],
        });

        private CatalogueEntry Store(ImageRecord record) => new()
        {
            Number = record.Number,
            Record = writer.Add(BlockKind.Record, JsonSerializer.SerializeToUtf8Bytes(record, ImageRecordJson.Default.ImageRecord)),
        };
    }
}
