using System.CommandLine;
using Vembar.Cli.Json;
using Vembar.Operations.Copy;

namespace Vembar.Cli.Commands.Copy;

internal static class CopyCommand
{
    public static VembarCommand Create()
    {
        var image = SharedOptions.Image();
        var archive = SharedOptions.Archive("The archive that it goes into; made when there is none");
        var name = new Option<string?>("--name") { Description = "The name there, where it is to be another", HelpName = "NAME" };
        var version = new Option<string?>("--version")
        {
            Description = "The version there; otherwise its own, or the next one where that is taken",
            HelpName = "TEXT",
        };
        var wait = SharedOptions.Wait();
        return new VembarCommand("copy", "Copy an image into another archive without unpacking it",
            "vembar copy desks.vmb#\"Reading room\" kiosks.vmb", "vembar copy desks.vmb#2 kiosks.vmb --name \"Reading room, September\"")
            .With(image, archive, name, version, wait, SharedOptions.Base, SharedOptions.AtState).Does(async (parse, session) =>
            {
                var result = await session.Do(new CopyHandler(session.Host), new CopyRequest(SharedOptions.ImageOf(parse, image, session),
                    SharedOptions.PlaceOf(parse, archive, session), parse.GetValue(name),
                    SharedOptions.VersionOf(parse.GetValue(version), session),
                    TimeSpan.FromSeconds(parse.GetValue(wait))));
                session.Warn(result.Notes);
                session.Result(new StoreJson(result.Archive, result.Image, result.Stats, [], result.Notes, null), json => json.StoreJson,
                    () =>
                {
                    Session.Line($"Image {result.Image.Number} {result.Image.Title} is in {result.Archive}.");
                    Session.Line($"  {Text.Size(result.Image.Bytes)}; {Text.Size(result.Stats.BytesNew)} of it were new, the archive "
                        + $"grew by {Text.Size(result.Stats.BytesStored)}");
                    Session.Line($"  {Text.Count(result.WholeBlocks, "block")} went over as they are"
                        + Text.Took(result.Stats.Seconds));
                });
                return ExitCode.Done;
            });
    }
}
