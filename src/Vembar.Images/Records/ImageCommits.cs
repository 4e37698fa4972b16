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
        public ImageRecord CommitImage(ImageRecord record, int? replace, string change) => writer.CommitImage(record, replace, change,
            [], []);

        /// <summary>Stores an image's record and makes a new state that lists it, and in which other images are changed or gone.</summary>
        /// <param name="record">The record; its number is replaced by the next free one unless it replaces an image.</param>
        /// <param name="replace">The number of the image that it takes the place of, or null.</param>
        /// <param name="change">What was done, for the archive's history.</param>
        /// <param name="changed">Other images with what is said of them now; their channels stay as they are.</param>
        /// <param name="dropped">Numbers of other images that are not listed any more.</param>
        /// <returns>The record as stored.</returns>
        public ImageRecord CommitImage(ImageRecord record, int? replace, string change, IReadOnlyList<ImageRecord> changed,
            IReadOnlyCollection<int> dropped)
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
            var others = changed.Where(c => !dropped.Contains(c.Number)).ToDictionary(c => c.Number, writer.Store);
            writer.Commit(catalogue with
            {
                NextNumber = replace is null ? record.Number + 1 : catalogue.NextNumber,
                Change = change,
                Images = [.. catalogue.Images.Where(i => i.Number != record.Number && !dropped.Contains(i.Number))
                    .Select(i => others.GetValueOrDefault(i.Number) ?? i), entry],
                Channels = writer.WithChannels(record)?.Where(c => !dropped.Contains(c.Image)).ToList() is { Count: > 0 } left ? left
                    : null,
            });
            return record;
        }

        // The channels with those that point at an image as its record says: of its name, no other image has them.
        private List<ChannelEntry>? WithChannels(ImageRecord record)
        {
            var own = record.Channels ?? [];
            var namesakes = writer.Base.Images.Where(i => i.Name.Equals(record.Name, StringComparison.OrdinalIgnoreCase))
                .Select(i => i.Number).ToHashSet();
            List<ChannelEntry> channels =
            [
                .. (writer.Base.Catalogue.Channels ?? []).Where(c => c.Image != record.Number
                    && !(namesakes.Contains(c.Image) && own.Contains(c.Channel, StringComparer.OrdinalIgnoreCase))),
                .. own.Select(c => new ChannelEntry { Channel = c, Image = record.Number }),
            ];
            return channels.Count > 0 ? channels : null;
        }

        /// <summary>Makes a new state that lists the given images under the numbers they have.</summary>
        internal void CommitRecovered(IReadOnlyList<ImageRecord> images, string change) => writer.CommitWhole(new Catalogue
        {
            Change = change,
            NextNumber = images.Select(i => i.Number).Append(0).Max() + 1,
            Images = [.. images.Select(writer.Store)],
            Channels = images.Any(i => i.Channels is not null)
                ? [.. images.SelectMany(i => (i.Channels ?? []).Select(c => new ChannelEntry { Channel = c, Image = i.Number }))] : null,
        });

        private CatalogueEntry Store(ImageRecord record) => new()
        {
            Number = record.Number,
            Record = writer.Add(BlockKind.Record, JsonSerializer.SerializeToUtf8Bytes(record with
            {
                Channels = null,
            }, ImageRecordJson.Default.ImageRecord)),
        };
    }
}
