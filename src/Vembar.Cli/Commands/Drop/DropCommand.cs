using Vembar.Operations;
using Vembar.Operations.Drop;

namespace Vembar.Cli.Commands.Drop;

internal static class DropCommand
{
    public static VembarCommand Create()
    {
        var image = SharedOptions.Image();
        var wait = SharedOptions.Wait();
        return new VembarCommand("drop", "Take an image off an archive's list; numbers of others stay, content stays in the file",
            "vembar drop desks.vmb#2", "vembar drop desks.vmb#\"Reading room\"")
            .With(image, wait).Does(async (parse, session) =>
            {
                var result = await session.Do(new DropHandler(session.Host), new DropRequest(
                    ImageReference.Parse(parse.GetRequiredValue(image)), TimeSpan.FromSeconds(parse.GetValue(wait))));
                session.Result(new DropJson(result.Archive, result.Image, result.Left), json => json.DropJson,
                    () => Session.Line($"Image {result.Image.Number} \"{result.Image.Name}\" is off the list of {result.Archive}; "
                        + $"{Text.Count(result.Left, "image")} left."));
                return ExitCode.Done;
            });
    }
}
