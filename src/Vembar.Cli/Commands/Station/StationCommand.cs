using System.CommandLine;
using System.Globalization;
using Vembar.Common;
using Vembar.Operations.Stations;
using Vembar.Operations.Stations.Contract;

namespace Vembar.Cli.Commands.Station;

internal static class StationCommand
{
    private static readonly Option<string?> s_station = new("--station")
    {
        Description = "The station's address; the project file's where none is named, or what VEMBAR_STATION says",
        HelpName = "URL",
    };

    public static VembarCommand Create()
    {
        var command = new VembarCommand("station", "The server that hands images to machines: run it, see its machines, approve them",
            "vembar station serve", "vembar station machines --watch",
            "vembar station approve TVL-DESK-014 --image \"Lending desk@production\"",
            "vembar station join https://station.example:8470 --ca authority.pem");
        foreach (var sub in (VembarCommand[])[StationServeCommand.Create(), StationServeCommand.CheckBoot(), StationJoinCommand.Create(),
            Machines(), Decide("approve"),
            Decide("assign"), .. Simple(), StationWaveCommand.Create(), Capture(), Log(), StationListCommand.Import(),
                StationListCommand.Export(), Audit(),
            StationTokenCommand.Create()])
            command.Subcommands.Add(sub);
        return command;
    }

    /// <summary>The option that names a station.</summary>
    public static Option<string?> Option => s_station;

    /// <summary>The station that is meant.</summary>
    /// <exception cref="VembarException">None was named.</exception>
    public static StationClient Client(ParseResult parse, Session session) => session.Station(parse.GetValue(s_station)
        ?? (Environment.GetEnvironmentVariable("VEMBAR_STATION") is { Length: > 0 } said ? said : null)
        ?? session.Default("station", session.Project?.Station)
        ?? throw new VembarException(ErrorKind.Usage, "no-station", "no station was named",
            "Name one with --station https://HOST:8470, or in the project file."));

    public static Argument<string> Machine() => new("MACHINE")
    {
        Description = "The machine: its number at the station, name, serial number, UUID or network address, or the beginning of one",
    };

    private static VembarCommand Machines()
    {
        var machine = new Argument<string?>("MACHINE")
        {
            Description = "One machine, with all that is known of it; all of them where none is named",
            Arity = ArgumentArity.ZeroOrOne,
        };
        var watch = new Option<bool>("--watch") { Description = "Show them again and again, until interrupted" };
        var state = new Option<string?>("--state")
        {
            Description = "Only those in this state",
            HelpName = "new|waiting|ready|working|done|checked|failed|stopped",
        };
        state.AcceptOnlyFromAmong([.. Enum.GetNames<MachineState>().Select(n => n.ToLowerInvariant())]);
        var site = new Option<string?>("--site") { Description = "Only those of this site", HelpName = "NAME" };
        return new VembarCommand("machines", "The machines: those that wait for somebody first", "vembar station machines",
            "vembar station machines --state failed", "vembar station machines TVL-DESK-014", "vembar station machines --watch")
            .With(machine, watch, state, site, s_station).Does(async (parse, session) =>
            {
                using var client = Client(parse, session);
                if (parse.GetValue(machine) is { } named)
                {
                    var detail = await client.MachineAsync(named, session.Cancellation).ConfigureAwait(false);
                    session.Result(detail, json => json.MachineDetail, () => MachinePage.Show(detail, session));
                    return ExitCode.Done;
                }
                bool IsMeant(MachineInfo m) => (parse.GetValue(state) is not { } word
                        || m.State.ToString().Equals(word, StringComparison.OrdinalIgnoreCase))
                    && (parse.GetValue(site) is not { } where || m.Assignment.Site.Equals(where, StringComparison.OrdinalIgnoreCase));
                while (true)
                {
                    IReadOnlyList<MachineInfo> machines =
                        [.. (await client.MachinesAsync(session.Cancellation).ConfigureAwait(false)).Where(IsMeant)];
                    if (parse.GetValue(watch) && !session.Json && !Console.IsOutputRedirected)
                        Console.Out.Write("\u001b[H\u001b[2J");
                    session.Result(machines, json => json.IReadOnlyListMachineInfo, () => MachinePage.List(machines, session));
                    // Watching is for eyes; whoever wants JSON gets one document.
                    if (!parse.GetValue(watch) || session.Json)
                        return ExitCode.Done;
                    await Task.Delay(TimeSpan.FromSeconds(2), session.Cancellation).ConfigureAwait(false);
                }
            });
    }

    private static VembarCommand Decide(string word)
    {
        var isApproval = word == "approve";
        var machine = Machine();
        var name = new Option<string?>("--name") { Description = "The computer's name, up to 15 characters", HelpName = "NAME" };
        var site = new Option<string?>("--site") { Description = "The site that it stands in", HelpName = "NAME" };
        var image = new Option<string?>("--image")
        {
            Description = "The image: NAME, NAME@VERSION, NAME@CHANNEL or a number, behind ARCHIVE# where it is not of the first archive",
            HelpName = "IMAGE",
        };
        var layout = new Option<string?>("--layout")
        {
            Description = "How the disk is divided, where it is not what the firmware needs",
            HelpName = "uefi|bios",
        }.AcceptOnlyFromAmong("uefi", "bios");
        var expect = new Option<string?>("--expect")
        {
            Description = "The station's expectations that the machine is checked against afterwards",
            HelpName = "NAME",
        };
        var fill = new Option<string[]>("--fill")
        {
            Description = "A text for what stands between {{ and }} in the answer file; handed to this machine alone, once",
            HelpName = "NAME=TEXT",
            DefaultValueFactory = _ => [],
        };
        var userFiles = new Option<string?>("--user-files")
        {
            Description = "Keep the files that users made on the machine and put them back afterwards, or not; else as the station does",
            HelpName = "keep|none",
        }.AcceptOnlyFromAmong("keep", "none");
        var starter = new Option<string?>("--starter")
        {
            Description = "The starter that it gets from the network: that in use, the one that is tried, or a version",
            HelpName = "production|pilot|VERSION",
        };
        var accept = new Option<string[]>("--accept")
        {
            Description = "Set a refusal aside, by its word; for administrators",
            HelpName = "WORD",
            DefaultValueFactory = _ => [],
        };
        var command = new VembarCommand(word, isApproval ? "Approve a machine: it gets its image as soon as it can"
            : "Say what a machine is to become, without approving it",
            $"vembar station {word} 3f2a --name TVL-DESK-014 --image \"Lending desk@production\"",
            $"vembar station {word} TVL-DESK-014 --image \"Reading room\" --fill adminPassword=Secret1",
            $"vembar station {word} TVL-DESK-014 --user-files keep")
            .With(machine, name, site, image, layout, expect, userFiles, starter, fill, s_station);
        if (isApproval)
            command.Options.Add(accept);
        return command.Does(async (parse, session) =>
        {
            using var client = Client(parse, session);
            var approval = new Approval
            {
                Name = parse.GetValue(name),
                Site = parse.GetValue(site),
                Image = parse.GetValue(image),
                Layout = parse.GetValue(layout),
                Expectations = parse.GetValue(expect),
                UserFiles = parse.GetValue(userFiles),
                Starter = parse.GetValue(starter),
                Fill = SharedOptions.Pairs(parse.GetRequiredValue(fill), "--fill") is { Count: > 0 } pairs ? pairs : null,
                Accept = isApproval ? parse.GetRequiredValue(accept) : [],
            };
            var named = parse.GetRequiredValue(machine);
            var info = await (isApproval ? client.ApproveAsync(named, approval, session.Cancellation)
                : client.AssignAsync(named, approval, session.Cancellation)).ConfigureAwait(false);
            session.Result(info, json => json.MachineInfo, () => Session.Line(isApproval
                ? $"{MachinePage.Name(info)} is approved: it gets {info.Title}."
                : $"{MachinePage.Name(info)} is to become {Or(info.Assignment.Image, "whatever it is given when it is approved")}."));
            return ExitCode.Done;
        });
    }

    private static string Or(string text, string other) => text.Length > 0 ? text : other;

    private static IEnumerable<VembarCommand> Simple()
    {
        foreach (var (word, what, done) in ((string, string, string)[])
        [
            ("stop", "Stop what a machine is at", "is stopped"), ("retry", "Have a machine do its last task again", "begins again"),
            ("wake", "Call a machine that is switched off: by a magic packet from the station, and by the command of its site",
                "was called"),
            ("forget", "Take a machine off the list; the audit keeps that it was there", "is off the list"),
        ])
        {
            var machine = Machine();
            yield return new VembarCommand(word, what, $"vembar station {word} TVL-DESK-014").With(machine, s_station)
                .Does(async (parse, session) =>
                {
                    using var client = Client(parse, session);
                    var named = parse.GetRequiredValue(machine);
                    var info = word == "forget" ? await client.ForgetAsync(named, session.Cancellation).ConfigureAwait(false)
                        : await client.DoAsync(named, word, session.Cancellation).ConfigureAwait(false);
                    session.Result(info, json => json.MachineInfo, () => Session.Line($"{MachinePage.Name(info)} {done}."));
                    return ExitCode.Done;
                });
        }
    }

    private static VembarCommand Capture()
    {
        var machine = Machine();
        var name = new Option<string>("--name") { Description = "The new image's name", HelpName = "NAME", Required = true };
        var archive = new Option<string?>("--archive")
        {
            Description = "The station's archive; the first where none is named",
            HelpName = "NAME",
        };
        var edition = new Option<string?>("--edition") { Description = "Its edition", HelpName = "NAME" };
        var version = new Option<string?>("--version") { Description = "Its version; the next where none is named", HelpName = "TEXT" };
        var unready = new Option<bool>("--accept-unready") { Description = "Capture it although it is not ready" };
        return new VembarCommand("capture", "Capture the disk of a machine that has joined into the station's archive",
            "vembar station capture 3f2a --name \"Lending desk\"")
            .With(machine, name, archive, edition, version, unready, s_station).Does(async (parse, session) =>
            {
                using var client = Client(parse, session);
                var info = await client.CaptureAsync(parse.GetRequiredValue(machine), new CaptureOrder(parse.GetRequiredValue(name),
                    parse.GetValue(archive), parse.GetValue(edition), parse.GetValue(version), parse.GetValue(unready)),
                    session.Cancellation).ConfigureAwait(false);
                session.Result(info, json => json.MachineInfo, () => Session.Line($"{MachinePage.Name(info)} will be captured as "
                    + $"\"{info.Title}\". See how far it is with `vembar station machines {info.Id}`."));
                return ExitCode.Done;
            });
    }

    private static VembarCommand Log()
    {
        var machine = Machine();
        var follow = new Option<bool>("--follow") { Description = "Go on with what happens, until interrupted" };
        return new VembarCommand("log", "What happened to a machine, the oldest first", "vembar station log TVL-DESK-014 --follow")
            .With(machine, follow, s_station).Does(async (parse, session) =>
            {
                using var client = Client(parse, session);
                var named = parse.GetRequiredValue(machine);
                var events = await client.EventsAsync(named, 0, session.Cancellation).ConfigureAwait(false);
                session.Result(events, json => json.IReadOnlyListMachineEvent, () => MachinePage.Events(events));
                while (parse.GetValue(follow) && !session.Json)
                {
                    await Task.Delay(TimeSpan.FromSeconds(1), session.Cancellation).ConfigureAwait(false);
                    var last = events.Count > 0 ? events[^1].Sequence : 0;
                    var more = await client.EventsAsync(named, last, session.Cancellation).ConfigureAwait(false);
                    MachinePage.Events(more);
                    events = more.Count > 0 ? more : events;
                }
                return ExitCode.Done;
            });
    }

    private static VembarCommand Audit() => new VembarCommand("audit", "What was done at the station, and by whom; the newest first",
        "vembar station audit").With(s_station).Does(async (parse, session) =>
    {
        using var client = Client(parse, session);
        var entries = await client.AuditAsync(session.Cancellation).ConfigureAwait(false);
        session.Result(entries, json => json.IReadOnlyListAuditEntry, () =>
        {
            var table = new Table("Time", "Who", "~From", "What", "To", "Remark");
            foreach (var entry in entries)
                table.Row(Text.ExactTime(entry.Time), Or(entry.Who, "-"),
                    entry.Address, entry.Action, entry.Subject, entry.Text);
            table.Print(session);
        });
        return ExitCode.Done;
    });
}
