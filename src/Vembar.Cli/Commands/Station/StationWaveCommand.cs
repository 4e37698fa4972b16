using System.CommandLine;
using System.Globalization;
using Vembar.Common;
using Vembar.Operations.Stations.Contract;
using Vembar.Operations.Waves;

namespace Vembar.Cli.Commands.Station;

internal static class StationWaveCommand
{
    public static VembarCommand Create()
    {
        var image = new Argument<string?>("IMAGE")
        {
            Description = "The image: NAME, NAME@VERSION, NAME@CHANNEL or a number, behind ARCHIVE# where it is not of the first archive",
            Arity = ArgumentArity.ZeroOrOne,
        };
        var machines = new Option<string[]>("--machines")
        {
            Description = "The machines that it is for, with commas between them; all that wait where none is named",
            HelpName = "MACHINE,…",
            DefaultValueFactory = _ => [],
        };
        var site = new Option<string?>("--site") { Description = "The site whose machines it is for", HelpName = "NAME" };
        var begin = new Option<string>("--begin")
        {
            Description = "When it begins: as soon as one machine is there (now), when so many have joined (\"20 joined\"), or at a time "
            + "(\"2026-12-01 07:30\")",
            HelpName = "now|\"N joined\"|TIME",
            DefaultValueFactory = _ => "now",
        };
        var rate = new Option<string?>("--rate")
        {
            Description = "How fast it is sent; as the station does where nothing is named",
            HelpName = "RATE",
        };
        var accept = new Option<string[]>("--accept")
        {
            Description = "Set a refusal of its machines aside, by its word; for administrators",
            HelpName = "WORD",
            DefaultValueFactory = _ => [],
        };
        var command = new VembarCommand("wave", "Send an image to many machines at once, over the network once: see `vembar help waves`",
            "vembar station wave \"Lending desk@production\" --site Library --begin \"20 joined\"",
            "vembar station wave 3 --machines TVL-DESK-014,TVL-DESK-015 --rate \"200 Mbit/s\"", "vembar station wave status",
            "vembar station wave stop 4")
            .With(image, machines, site, begin, rate, accept, StationCommand.Option).Does(async (parse, session) =>
            {
                var (joined, at) = BeginOf(parse.GetRequiredValue(begin));
                var request = new WaveRequest
                {
                    Image = parse.GetValue(image) ?? throw new VembarException(ErrorKind.Usage, "no-image", "no image was named",
                        "Name one, or see `vembar station wave status`."),
                    Machines = [.. parse.GetRequiredValue(machines)
                        .SelectMany(m => m.Split(',', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries))],
                    Site = parse.GetValue(site) ?? "",
                    Joined = joined,
                    At = at,
                    Rate = RateOf(parse.GetValue(rate)),
                    Accept = parse.GetRequiredValue(accept),
                };
                using var client = StationCommand.Client(parse, session);
                var wave = await client.AddWaveAsync(request, session.Cancellation).ConfigureAwait(false);
                session.Result(wave, json => json.WaveInfo, () =>
                {
                    Session.Line($"Wave {wave.Id} of {Text.Safe(wave.Title)}: {wave.Remark}.");
                    Session.Line($"See how far it is with `vembar station wave status {wave.Id}`.");
                });
                return ExitCode.Done;
            });
        command.Subcommands.Add(Status());
        command.Subcommands.Add(Stop());
        return command;
    }

    private static (int? Joined, DateTime? At) BeginOf(string text)
    {
        if (text.Equals("now", StringComparison.OrdinalIgnoreCase))
            return (null, null);
        if (text.Split(' ', StringSplitOptions.RemoveEmptyEntries) is [var number, "joined"]
            && int.TryParse(number, NumberStyles.None, CultureInfo.InvariantCulture, out var joined))
            return (joined, null);
        string[] forms = ["yyyy-MM-dd HH:mm", "yyyy-MM-ddTHH:mm", "HH:mm"];
        if (!DateTime.TryParseExact(text, forms, CultureInfo.InvariantCulture, DateTimeStyles.AssumeLocal, out var time))
            throw new VembarException(ErrorKind.Usage, "bad-begin", $"'{text}' does not say when the wave begins",
                "Write now, \"20 joined\", \"2026-12-01 07:30\" or 07:30.");
        // An hour of the day is the next one.
        return (null, (text.Length == "HH:mm".Length && time < DateTime.Now ? time.AddDays(1) : time).ToUniversalTime());
    }

    private static long? RateOf(string? text) => text is null ? null : BitRate.TryParse(text, out var rate) ? rate
        : throw new VembarException(ErrorKind.Usage, "bad-rate", $"'{text}' is no rate", "Write for instance --rate \"200 Mbit/s\".");

    private static Argument<T> Wave<T>(ArgumentArity arity) => new("WAVE") { Description = "The wave's number", Arity = arity };

    private static VembarCommand Status()
    {
        var wave = Wave<string?>(ArgumentArity.ZeroOrOne);
        var watch = new Option<bool>("--watch") { Description = "Show it again and again, until interrupted" };
        return new VembarCommand("status", "How far waves are, the newest first; or one with its machines", "vembar station wave status",
            "vembar station wave status 4 --watch").With(wave, watch, StationCommand.Option).Does(async (parse, session) =>
            {
                using var client = StationCommand.Client(parse, session);
                while (true)
                {
                    var one = parse.GetValue(wave) is { } id ? await client.WaveAsync(id, session.Cancellation).ConfigureAwait(false)
                        : null;
                    var all = one is null ? await client.WavesAsync(session.Cancellation).ConfigureAwait(false) : [];
                    if (parse.GetValue(watch) && !session.Json && !Console.IsOutputRedirected)
                        Console.Out.Write("\u001b[H\u001b[2J");
                    if (one is not null)
                        session.Result(one, json => json.WaveInfo, () => Show(one, session));
                    else
                        session.Result(all, json => json.IReadOnlyListWaveInfo, () => List(all, session));
                    if (!parse.GetValue(watch) || session.Json)
                        return ExitCode.Done;
                    await Task.Delay(TimeSpan.FromSeconds(2), session.Cancellation).ConfigureAwait(false);
                }
            });
    }

    private static VembarCommand Stop()
    {
        var wave = Wave<string>(ArgumentArity.ExactlyOne);
        return new VembarCommand("stop", "Stop a wave: machines that wait for it wait for somebody again, others go on by themselves",
            "vembar station wave stop 4").With(wave, StationCommand.Option).Does(async (parse, session) =>
            {
                using var client = StationCommand.Client(parse, session);
                var stopped = await client.StopWaveAsync(parse.GetRequiredValue(wave), session.Cancellation).ConfigureAwait(false);
                session.Result(stopped, json => json.WaveInfo, () => Session.Line($"Wave {stopped.Id} is stopped."));
                return ExitCode.Done;
            });
    }

    private static string Word(Enum state) => state.ToString().ToLowerInvariant();

    private static string Percent(long done, long total) =>
        total > 0 ? string.Create(CultureInfo.InvariantCulture, $"{100.0 * done / total:0} %") : "";

    private static void List(IReadOnlyList<WaveInfo> waves, Session session)
    {
        if (waves.Count == 0)
        {
            Session.Line("No wave.");
            return;
        }
        var table = new Table("Wave", "!State", "Image", ">Machines", ">Ended", ">Sent", "Remark");
        foreach (var wave in waves)
            table.Row(wave.Id, Word(wave.State), wave.Title, Text.Number(wave.Members.Count),
                Text.Number(wave.Members.Count(m => m.State is MachineState.Done or MachineState.Checked)), Percent(wave.Sent, wave.Bytes),
                wave.Remark);
        table.Print(session);
    }

    private static void Show(WaveInfo wave, Session session)
    {
        Session.Line($"Wave {wave.Id} is {Word(wave.State)}{(wave.Remark.Length > 0 ? $": {wave.Remark}" : "")}");
        Session.Line($"  {"Image",-10} {Text.Safe(wave.Title)}");
        Session.Line($"  {"Sent to",-10} {wave.Group}, {BitRate.Write(wave.Rate)}");
        if (wave.Bytes > 0)
            Session.Line($"  {"Sent",-10} {Text.Size(wave.Sent)} of {Text.Size(wave.Bytes)} ({Percent(wave.Sent, wave.Bytes)})"
                + (wave is { Began: { } began, Ended: { } ended } ? $" in {Text.Duration((ended - began).TotalSeconds)}" : ""));
        Session.Line();
        var table = new Table("Machine", "Name", "!State", ">Done", "~>Heard", "~>Asked for", "Remark");
        foreach (var member in wave.Members)
        {
            var hasEnded = member.Heard + member.Asked > 0;
            table.Row(member.Machine, member.Name, Word(member.State),
                member.Progress is { } progress ? Percent(progress.Done, progress.Total) : "",
                hasEnded ? Text.Size(member.Heard) : "", hasEnded ? Text.Size(member.Asked) : "",
                member.Progress is { Phase: var phase } ? phase : member.Remark);
        }
        table.Print(session);
    }
}
