using System.Globalization;
using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Store.Reading;
using Vembar.Store.Writing;

namespace Vembar.Operations.Mark;

/// <summary>Marks an image: its channels, lock, holding back, retirement.</summary>
public sealed class MarkHandler(OperationHost host) : IOperationHandler<MarkRequest, MarkResult>
{
    private static readonly string[] s_reserved = [ImageCatalogue.NewestWord, "last"];

    /// <summary>Marks it, all together in one state of the archive.</summary>
    /// <exception cref="VembarException">There is no such image or channel, or the archive cannot be written.</exception>
    public async Task<MarkResult> HandleAsync(MarkRequest request, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        if (request is { Channels.Count: 0, ChannelsOut.Count: 0, Locked: null, Held: null, Retires: null, NeverRetires: false })
            throw new VembarException(ErrorKind.Usage, "nothing-to-do", "it was not said how to mark the image",
                Advice.Of("nothing-to-mark"));
        foreach (var channel in request.Channels)
            CheckName(channel, request.KnownChannels);
        if (request.Channels.Intersect(request.ChannelsOut, StringComparer.OrdinalIgnoreCase).FirstOrDefault() is { } both)
            throw new VembarException(ErrorKind.Usage, "bad-channel", $"the channel '{both}' is both put on the image and taken off it",
                "Say one of the two.");
        using var writer = await ArchiveWriter.OpenAsync(request.Image.Archive, host.WriterOptions(request.Wait), cancellation)
            .ConfigureAwait(false);
        var image = writer.Base.Find(request.Image.Which, host.Clock);
        var changes = new List<string>();
        var record = image with
        {
            Locked = request.Locked ?? image.Locked,
            Held = request.Held ?? image.Held,
            Retires = request.NeverRetires ? null : request.Retires ?? image.Retires,
            Channels = Channels(writer.Base, image, request, changes),
        };
        Note(image, record, changes);
        var warnings = Warnings(record);
        if (changes.Count == 0)
            return new MarkResult(request.Image.Archive.Path, image, [], warnings);
        record = writer.CommitImage(record, image.Number, $"{Checks.Change("mark", image.Number, image)}: {string.Join(", ", changes)}");
        return new MarkResult(request.Image.Archive.Path, record, changes, warnings);
    }

    /// <summary>Whether a channel may be called so.</summary>
    internal static bool IsChannelName(string channel)
    {
        const int Longest = 40;
        return channel.Length is > 0 and <= Longest && char.IsLetter(channel[0])
            && channel.All(c => char.IsLetterOrDigit(c) || c is '-' or '_')
            && !s_reserved.Contains(channel, StringComparer.OrdinalIgnoreCase);
    }

    private static void CheckName(string channel, IReadOnlyList<string> known)
    {
        if (!IsChannelName(channel))
            throw new VembarException(ErrorKind.Usage, "bad-channel", $"'{channel}' cannot be a channel",
                "A channel begins with a letter and has letters, digits, '-' and '_', for instance pilot; 'newest' and 'last' mean "
                + "something else.");
        if (known.Count > 0 && !known.Contains(channel, StringComparer.OrdinalIgnoreCase))
            throw new VembarException(ErrorKind.Usage, "bad-channel", $"the project file has no channel '{channel}'",
                $"It has {string.Join(", ", known)}; add it there, or choose one of them.");
    }

    private static List<string>? Channels(ArchiveReader archive, ImageRecord image, MarkRequest request, List<string> changes)
    {
        var versions = ImageCatalogue.Of(archive).VersionsOf(image.Name);
        var channels = (image.Channels ?? []).ToList();
        foreach (var channel in request.Channels)
        {
            if (channels.Contains(channel, StringComparer.OrdinalIgnoreCase))
                continue;
            if (versions.FirstOrDefault(v => v.Version.Equals(channel, StringComparison.OrdinalIgnoreCase)) is { } named)
                throw VembarException.Input("channel-taken", $"'{channel}' cannot be a channel of \"{image.Name}\": it is the version of "
                    + $"image {named.Number}", Advice.Of("change-version", ("image", $"{archive.Path}#{named.Number}")));
            var before = versions.FirstOrDefault(v => (v.Channels ?? []).Contains(channel, StringComparer.OrdinalIgnoreCase));
            channels.Add(channel);
            changes.Add(before is null ? $"channel {channel}" : $"channel {channel}, before at {Short(before)}");
        }
        foreach (var channel in request.ChannelsOut)
        {
            var at = channels.FindIndex(c => c.Equals(channel, StringComparison.OrdinalIgnoreCase));
            if (at < 0)
            {
                throw VembarException.Input("no-such-channel",
                    $"the channel '{channel}' does not point at image {image.Number} {image.Title}",
                    channels.Count > 0 ? $"It is in {string.Join(", ", channels)}." : "It is in no channel.");
            }
            changes.Add($"out of channel {channels[at]}");
            channels.RemoveAt(at);
        }
        return channels.Count > 0 ? channels : null;
    }

    private static string Short(ImageRecord image) => image.Version.Length > 0 ? $"{image.Version} ({image.Number})" : $"{image.Number}";

    private static void Note(ImageRecord before, ImageRecord now, List<string> changes)
    {
        if (before.Locked != now.Locked)
            changes.Add(now.Locked ? "locked" : "unlocked");
        if (before.Held != now.Held)
            changes.Add(now.Held ? "held back" : "released");
        if (before.Retires != now.Retires)
            changes.Add(now.Retires is { } day ? $"retired from {day.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture)}"
                : "not retired");
    }

    private List<string> Warnings(ImageRecord image)
    {
        var warnings = new List<string>();
        if (image.Channels is { Count: > 0 } channels && !image.IsOffered(host.Today))
        {
            var why = image.IsRetired(host.Today) ? "retired" : "held back";
            warnings.Add($"image {image.Number} is {why}, and still what {string.Join(", ", channels)} "
                + $"{(channels.Count == 1 ? "points" : "point")} at");
        }
        return warnings;
    }
}
