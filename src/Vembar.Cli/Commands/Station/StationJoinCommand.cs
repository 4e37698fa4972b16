using System.CommandLine;
using Vembar.Operations.Stations.Contract;
using Vembar.Operations.Stations.Joining;
using Vembar.Store.Places;

namespace Vembar.Cli.Commands.Station;

internal static class StationJoinCommand
{
    private const long MostKept = 192L << 20;

    public static VembarCommand Create()
    {
        var stations = new Argument<string[]>("URL")
        {
            Description = "The station's address; with several, the next is tried when one does not answer",
            Arity = ArgumentArity.OneOrMore,
        };
        var disk = new Option<string?>("--disk")
        {
            Description = "The disk that the image goes to, and all that is on it is lost; the machine's first where none is named",
            HelpName = "DISK",
        };
        var from = new Option<string>("--from")
        {
            Description = "What the machine is: its /sys, or a copy of another machine's",
            HelpName = "DIR",
            DefaultValueFactory = _ => "/sys",
        };
        var once = new Option<bool>("--once") { Description = "End after the first task, also when it failed" };
        var attended = new Option<bool>("--attended")
        {
            Description = "Ask here who is at the machine, and what it is to become; whoever approves it signs in with a token or PIN "
            + "first",
        };
        return new VembarCommand("join", "What a machine runs: join a station, wait to be approved, get the image, tell how it went",
            "vembar station join https://station.tarnvalley.example:8470 --ca authority.pem",
            "vembar station join https://10.0.0.1:8470 --ca authority.pem --disk /dev/nvme0n1 --once")
            .With(stations, disk, from, attended, once).Does(async (parse, session) =>
            {
                var outcome = await session.Do(new JoinHandler(session.Host), new JoinOptions
                {
                    Stations = parse.GetRequiredValue(stations),
                    Disk = parse.GetValue(disk),
                    Sys = parse.GetRequiredValue(from),
                    // Its first program says which it is.
                    Starter = Environment.GetEnvironmentVariable("VEMBAR_STARTER") ?? "",
                    Once = parse.GetValue(once),
                    Places = session.PlaceOptions with
                    {
                        Retries = 20,
                        IsPatient = true,
                        // The disk is what is written; in memory there is room for what is needed twice.
                        Blocks = new MemoryBlockStore(Math.Min(MostKept, GC.GetGCMemoryInfo().TotalAvailableMemoryBytes / 8)),
                    },
                    Tell = session.Tell,
                    Attendant = parse.GetValue(attended) ? new ConsoleAttendant(session) : null,
                    HintOf = AdviceText.Of,
                });
                session.Result(outcome, json => json.TaskOutcome, () => Show(outcome));
                return outcome is { Done: true } ? ExitCode.Done : ExitCode.NotInOrder;
            });
    }

    private static void Show(TaskOutcome outcome)
    {
        if (outcome is { Done: true, Result: null })
        {
            Session.Line("It was done before, and the station knows.");
            return;
        }
        if (outcome is not { Result: { } result })
        {
            Session.Line($"Not done: {outcome.Problem}. {outcome.Hint}".TrimEnd());
            foreach (var detail in outcome.Details)
                Session.Line($"  {detail}");
            return;
        }
        MachinePage.Result(result);
    }
}
