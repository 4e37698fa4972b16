using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Operations.Drop;

namespace Vembar.Cli.Commands.Drop;

internal static class DropCommand
{
    public static VembarCommand Create()
    {
        var image = SharedOptions.Image();
        var confirm = Confirmation.Option();
        var wait = SharedOptions.Wait();
        return new VembarCommand("drop",
            "Take an image off an archive's list; numbers of others stay, content stays in the file; asks first",
            "vembar drop desks.vmb#2", "vembar drop desks.vmb#\"Reading room@2026.08\" --confirm")
            .With(image, confirm, wait).Does(async (parse, session) =>
            {
                var reference = SharedOptions.ImageOf(parse, image, session);
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

    private static string[] Loss(ImageRecord image, ImageReference reference) =>
    [
        $"Image {image.Number} {image.Title} of {reference.Archive}: {Text.Count(image.Files, "file")}, {Text.Size(image.Bytes)}, made "
        + $"{Text.Time(image.Created)}.",
        $"It goes off the list. Its content stays until the archive is compacted; until then `vembar rewind` takes it back.",
    ];
}
