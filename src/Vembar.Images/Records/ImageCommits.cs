using System.Text.Json;
using Vembar.Store.Format;
using Vembar.Store.Writing;

namespace Vembar.Images.Records;

/// <summary>New states of an archive that change which images it lists.</summary>
public static class ImageCommits
{
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
