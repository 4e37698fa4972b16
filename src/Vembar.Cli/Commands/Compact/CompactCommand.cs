using System.CommandLine;
using Vembar.Operations.Drop;

namespace Vembar.Cli.Commands.Compact;

internal static class CompactCommand
{
    public static VembarCommand Create()
    {
        var archive = SharedOptions.Archive("The archive");
        var effort = new Option<string?>("--effort")
        {
            Description = "Compress everything anew",
            HelpName = "quick|balanced|dense",
        }.AcceptOnlyFromAmong("quick", "balanced", "dense");
        var wait = SharedOptions.Wait();
        return new VembarCommand("compact", "Rewrite an archive without what no image needs; earlier states go",
            "vembar compact desks.vmb", "vembar compact desks.vmb --effort dense")
            .With(archive, effort, wait, SharedOptions.Base).Does(async (parse, session) =>
            {
                var result = await session.Do(new CompactHandler(session.Host), new CompactRequest(SharedOptions.PlaceOf(parse, archive),
                    parse.GetValue(effort) is { } word ? SharedOptions.EffortOf(word) : null,
                    TimeSpan.FromSeconds(parse.GetValue(wait))));
                session.Result(new CompactJson(result.Archive, result.Images, result.Before, result.After, result.Seconds),
                    json => json.CompactJson,
                    () => Session.Line($"{result.Archive} holds {Text.Count(result.Images, "image")} in {Text.Size(result.After)}; it "
                        + $"had {Text.Size(result.Before)}; took {Text.Duration(result.Seconds)}."));
                return ExitCode.Done;
            });
    }
}
