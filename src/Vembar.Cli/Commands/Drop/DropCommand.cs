using System.CommandLine;
using System.Globalization;
using Vembar.Cli.Json;
using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Operations.Drop;
using Vembar.Store.Reading;

namespace Vembar.Cli.Commands.Drop;

internal static class DropCommand
{
    public static VembarCommand Create()
    {
        var images = new Argument<string[]>("IMAGE")
        {
            Description = "The image, or several: ARCHIVE#NUMBER, ARCHIVE#\"NAME@VERSION\"",
            Arity = ArgumentArity.OneOrMore,
        };
        var confirm = Confirmation.Option();
        var wait = SharedOptions.Wait();
        return new VembarCommand("drop",
            "Take an image off an archive's list; numbers of others stay, content stays in the file; asks first",
            "vembar drop desks.vmb#2", "vembar drop desks.vmb#\"Reading room@2026.08\" --confirm",
            "vembar drop desks.vmb#1 desks.vmb#2 --confirm")
            .With(images, confirm, wait).Does(async (parse, session) =>
            {
                var references = parse.GetRequiredValue(images).Select(i => SharedOptions.ImageOf(i, parse, session)).ToList();
                if (references.Count > 1)
                    return await SeveralAsync(references, parse.GetValue(confirm), TimeSpan.FromSeconds(parse.GetValue(wait)), session)
                        .ConfigureAwait(false);
                var reference = references[0];
                var result = await session.Do(new DropHandler(session.Host), new DropRequest(reference,
                    found => Confirmation.Ask(session, parse.GetValue(confirm), Loss(found, reference),
                        $"Drop image {found.Number} {found.Title}"),
                    TimeSpan.FromSeconds(parse.GetValue(wait))));
                session.Result(new DropJson(result.Archive, result.Image, result.Left), json => json.DropJson,
                    () => Session.Line($"Image {result.Image.Number} {result.Image.Title} is off the list of {result.Archive}; "
                        + $"{Text.Count(result.Left, "image")} left."));
                return ExitCode.Done;
            });
    }

    // All are found before any goes, and what goes is asked once.
    private static async Task<int> SeveralAsync(IReadOnlyList<ImageReference> references, bool confirmed, TimeSpan wait, Session session)
    {
        var found = references.Select(r =>
        {
            using var archive = ArchiveReader.Open(r.Archive, session.Host.Files);
            var image = archive.Find(r.Which, session.Host.Clock);
            return (Image: image, Reference: r with { Which = image.Number.ToString(CultureInfo.InvariantCulture) });
        }).DistinctBy(f => (f.Reference.Archive.Path, f.Image.Number)).ToList();
        if (!Confirmation.Ask(session, confirmed, [.. found.SelectMany(f => Loss(f.Image, f.Reference)).Distinct()],
            $"Drop {found.Count} images"))
            throw VembarException.Input("not-confirmed", $"{found.Count} images were not dropped: that was not confirmed");
        var dropped = new List<DropJson>();
        try
        {
            foreach (var (_, reference) in found)
            {
                var result = await session.Do(new DropHandler(session.Host), new DropRequest(reference, _ => true, wait));
                dropped.Add(new DropJson(result.Archive, result.Image, result.Left));
            }
        }
        catch (VembarException) when (dropped.Count > 0)
        {
            session.Warn([$"dropped before that: {string.Join(", ", dropped.Select(d => $"image {d.Image.Number} {d.Image.Title}"))}"]);
            throw;
        }
        session.Result(dropped, json => json.ListDropJson, () =>
        {
            foreach (var (archive, image, left) in dropped)
                Session.Line($"Image {image.Number} {image.Title} is off the list of {archive}; {Text.Count(left, "image")} left.");
        });
        return ExitCode.Done;
    }

    private static string[] Loss(ImageRecord image, ImageReference reference) =>
    [
        $"Image {image.Number} {image.Title} of {reference.Archive}: {Text.Count(image.Files, "file")}, {Text.Size(image.Bytes)}, made "
        + $"{Text.Time(image.Created)}.",
        $"It goes off the list. Its content stays until the archive is compacted; until then `vembar rewind` takes it back.",
    ];
}
