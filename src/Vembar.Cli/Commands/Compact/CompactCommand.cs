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
        var confirm = Confirmation.Option();
        var wait = SharedOptions.Wait();
        return new VembarCommand("compact", "Rewrite an archive without what no image needs; earlier states go, so it asks first",
            "vembar compact desks.vmb", "vembar compact desks.vmb --effort dense --confirm")
            .With(archive, effort, confirm, wait, SharedOptions.Base).Does(async (parse, session) =>
            {
                var result = await session.Do(new CompactHandler(session.Host),
                    new CompactRequest(SharedOptions.PlaceOf(parse, archive, session),
                    parse.GetValue(effort) is { } word ? SharedOptions.EffortOf(word) : null,
                    loss => Confirmation.Ask(session, parse.GetValue(confirm), Lines(loss), $"Compact {loss.Archive}"),
                    TimeSpan.FromSeconds(parse.GetValue(wait))));
                session.Result(new CompactJson(result.Archive, result.Images, result.Before, result.After, result.Seconds),
                    json => json.CompactJson,
                    () => Session.Line($"{result.Archive} holds {Text.Count(result.Images, "image")} in {Text.Size(result.After)}; it "
                        + $"had {Text.Size(result.Before)}{Text.Took(result.Seconds)}."));
                return ExitCode.Done;
            });
    }

    private static List<string> Lines(CompactLoss loss)
    {
        const int MostNamed = 12;
        var lines = new List<string>();
        if (loss.States > 0)
            lines.Add($"{Text.Count(loss.States, "earlier state")} of {loss.Archive} can be gone back to until now; "
                + $"{(loss.States == 1 ? "it goes" : "they go")}.");
        if (loss.Gone.Count > 0)
        {
            var more = loss.Gone.Count > MostNamed ? $", and {loss.Gone.Count - MostNamed} more" : "";
            lines.Add($"Only they hold: image {string.Join(", ", loss.Gone.Take(MostNamed))}{more}.");
        }
        if (loss.Dependents.Count > 0)
            lines.Add($"Based on it, and damaged if they need what goes: {string.Join(", ", loss.Dependents)}.");
        return lines;
    }
}
