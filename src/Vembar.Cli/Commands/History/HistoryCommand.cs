using Vembar.Common;
using Vembar.Operations.History;

namespace Vembar.Cli.Commands.History;

internal static class HistoryCommand
{
    public static VembarCommand Create()
    {
        var archive = SharedOptions.Archive("The archive");
        return new VembarCommand("history", "List the states that an archive went through since it was last compacted",
            "vembar history desks.vmb", "vembar history desks.vmb --json")
            .With(archive).Does(async (parse, session) =>
            {
                var path = SharedOptions.ArchiveOf(parse.GetValue(archive), session);
                var history = await session.Do(new HistoryHandler(session.Host), new HistoryRequest(path));
                var states = history.States;
                session.Warn(history.Problems);
                if (history.NewerIsDamagedBehind is { } last)
                    session.Notice(new Notice($"a newer state behind state {last} of '{path}' is damaged",
                        Advice.Of("newer-state-known", ("path", path))));
                session.Result(new HistoryJson(path, [.. states.Select(From)]), json => json.HistoryJson, () =>
                {
                    var table = new Table(">State", "Time", "~By", "Change", "~>Images", "~>File until there");
                    foreach (var state in states)
                        table.Row($"{state.Number}", Text.Time(state.Time), state.By,
                            state.Problem.Length > 0 ? $"damaged: {state.Problem}" : state.Change, $"{state.Images.Count}",
                            Text.Size(state.End));
                    table.Print(session, without: states.Any(s => s.By.Length > 0) ? -1 : 2);
                });
                return ExitCode.Done;
            });
    }

    internal static StateJson From(ArchiveState state) =>
        new(state.Number, state.Time, state.Change, state.End,
            [.. state.Images.Select(i => new StateImageJson(i.Number, i.Name, i.Version))], state.Problem, state.By);
}
