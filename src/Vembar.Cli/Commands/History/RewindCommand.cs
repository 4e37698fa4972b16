using System.CommandLine;
using Vembar.Operations.History;

namespace Vembar.Cli.Commands.History;

internal static class RewindCommand
{
    public static VembarCommand Create()
    {
        var archive = SharedOptions.Archive("The archive");
        var to = new Option<long>("--to")
        {
            Description = "The state to go back to, by its number in `vembar history`",
            HelpName = "STATE",
            Required = true,
        };
        var wait = SharedOptions.Wait();
        return new VembarCommand("rewind",
            "Go back to an earlier state of an archive, by a further one that lists the same images; it can be taken back too",
            "vembar rewind desks.vmb --to 2")
            .With(archive, to, wait).Does(async (parse, session) =>
            {
                var path = SharedOptions.ArchiveOf(parse.GetValue(archive), session);
                var state = await session.Do(new RewindHandler(session.Host),
                    new RewindRequest(path, parse.GetValue(to), TimeSpan.FromSeconds(parse.GetValue(wait))));
                session.Result(new RewindJson(path, HistoryCommand.From(state)), json => json.RewindJson, () =>
                {
                    Session.Line($"{path} lists what it did in state {state.Number} ({state.Change}):");
                    foreach (var (number, name, version) in state.Images)
                        Session.Line($"  {number}  {name} {version}".TrimEnd());
                    if (state.Images.Count == 0)
                        Session.Line("  no images");
                });
                return ExitCode.Done;
            });
    }
}
