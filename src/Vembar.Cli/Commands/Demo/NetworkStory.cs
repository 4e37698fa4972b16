using System.Diagnostics;
using System.Globalization;
using System.Text.Json;
using Vembar.Cli.Commands.Station;
using Vembar.Common;
using Vembar.Demo;
using Vembar.Native.Helpers;
using Vembar.Operations.Stations;
using Vembar.Operations.Stations.Contract;
using Vembar.Store.Places.Remote;
using Vembar.Volumes.Disks;

namespace Vembar.Cli.Commands.Demo;

/// <summary>The demo's second part: a station, three machines that join it over a network of their own, and what becomes of them.</summary>
internal sealed class NetworkStory : IDisposable
{
    private const int Machines = 3, Used = 2;
    private static readonly TimeSpan s_patience = TimeSpan.FromMinutes(3), s_emulatedPatience = TimeSpan.FromMinutes(10);

    private readonly Session _session;
    private readonly string _folder;
    private readonly List<DemoCheckJson> _checks = [];
    private readonly List<HelperProcess> _processes = [];
    private readonly DemoNetwork _network;
    private readonly bool _isEmulated;
    private string _token = "";
    private string _address = "";
    private int _step;

    private NetworkStory(string folder, bool isEmulated, Session session)
    {
        _folder = folder;
        _session = session;
        _network = DemoNetwork.Make(Machines);
        _isEmulated = isEmulated;
    }

    public static async Task<int> RunAsync(string folder, bool isEmulated, Session session)
    {
        if (Path.Exists(folder) && (!Directory.Exists(folder) || Directory.EnumerateFileSystemEntries(folder).Any()))
            throw VembarException.Input("target-not-empty", $"the folder '{folder}' is not empty", "Name a new or empty folder.");
        if (StationServeCommand.Find() is null)
            throw StationServeCommand.Missing();
        if (isEmulated && EmulatedMachine.Missing() is { } missing)
            throw VembarException.Environment("program-missing", $"no machine can be emulated here: {missing.Problem}", missing.Remedy);
        var clock = Stopwatch.StartNew();
        using var story = new NetworkStory(Path.GetFullPath(folder), isEmulated, session);
        if (isEmulated && !story._network.IsThere)
            throw VembarException.Environment("demo-failed", "no network could be made here, so no machine can start from it",
                "`ip link add x type bridge` says why.");
        await story.WalkAsync().ConfigureAwait(false);
        var ok = story._checks.All(c => c.Ok);
        session.Result(new DemoJson(folder, 0, 0, clock.Elapsed.TotalSeconds, ok, story._checks), json => json.DemoJson,
            () => Session.Line(ok
            ? $"The story is told; everything came out as it should, in {Text.Duration(clock.Elapsed.TotalSeconds)}. The disks and the "
            + $"station's folder are in {folder}." : "Something did not come out as it should; see above."));
        return ok ? ExitCode.Done : ExitCode.NotInOrder;
    }

    private string At(string path) => Path.Combine(_folder, path);

    private void Say(string text = "")
    {
        _session.Progress.Clear();
        if (_session.IsTold)
            Session.Line(text);
    }

    private void Step(string what)
    {
        Say();
        Say($"{++_step}. {what}");
    }

    // What commands would print; nothing of it where one JSON document is wanted.
    private void Shown(Action print)
    {
        _session.Progress.Clear();
        if (_session.IsTold)
            print();
    }

    private void Check(string what, bool ok, string found)
    {
        _checks.Add(new DemoCheckJson(what, ok, found));
        Say($"   {(ok ? "yes" : "NO")}: {what} ({found})");
    }

    private string Own(params string[] arguments)
    {
        var known = Known();
        // Packages that were fetched before need not be fetched again.
        if (arguments[0] == "starter" && Environment.GetEnvironmentVariable("HOME") is { } home)
            known["HOME"] = home;
        using var process = HelperProcess.Start(new HelperStart(Environment.ProcessPath!, arguments)
        {
            Folder = _folder,
            Environment = known
        });
        var error = process.Error.ReadToEndAsync();
        var output = process.Output.ReadToEnd();
        process.WaitForExit();
        return process.ExitCode == 0 ? output
            : throw VembarException.Environment("demo-failed", $"`vembar {string.Join(' ', arguments)}` ended with {process.ExitCode}: "
            + $"{error.Result}");
    }

    private Dictionary<string, string> Known() => new()
    {
        ["HOME"] = At("home"),
        ["VEMBAR_HOST"] = _address.Length > 0 ? new Uri(_address).Authority : "",
        ["VEMBAR_TOKEN"] = _token,
        ["VEMBAR_STATION"] = _address,
    };

    // Shows a command as people would type it.
    private void Show(string command) => Say($"   $ vembar {command}");

    private async Task WalkAsync()
    {
        Say($"Making the world in {_folder}.");
        DemoWorld.Make(_folder, 1, _session.Cancellation);
        DemoWorld.MakeDisks(_folder, _session.Cancellation);
        Directory.CreateDirectory(At("home"));
        Own("capture", At("disks/lending-desk.vhdx"), At("desks.vmb"), "--name", "Lending desk", "--version", "2026.09", "--quiet");
        Own("mark", At("desks.vmb") + "#1", "--channel", "production");
        Own("check", "--from", At("desks.vmb") + "#1", "--out", At("desk.yaml"));
        File.WriteAllText(At("station.yaml"), $"""
            listen: '{_network.Station}:{_network.Port}'
            data: station
            addresses: [ 'https://{_network.Station}:{_network.Port}' ]
            archives: {"{"} desks: desks.vmb {"}"}
            hardware: hardware
            expectations: {"{"} desk: desk.yaml {"}"}
            {(_isEmulated ? $"starters: starters\nboot: {{ mode: full, interface: {DemoNetwork.Bridge}, address: {_network.Station}, "
                + $"range: {_network.Range}, arguments: console=ttyS0 }}" : "")}

            """);
        Step("A station: an empty folder, and the archive.");
        Show("station serve");
        StartStation();
        Say($"   It answers at {_address}.");
        using var client = new StationClient(_address, _session.PlaceOptions with
        {
            CaFile = At("station/authority.pem"),
            Credentials = _ => new PlaceCredentials("", _token, IsToken: true),
            Retries = 8,
            IsPatient = true,
        });
        Step(_network.IsThere ? "Three machines join, each in a network of its own with a cable to the station's."
            : "Three machines join (over loopback: for networks of their own this has to run as root).");
        Show($"station join {_address} --ca authority.pem");
        for (var number = 1; number <= Machines; number++)
            Join(number);
        var waiting = await UntilAsync(client, all => all.Count(m => m.State == MachineState.Waiting) == Machines).ConfigureAwait(false);
        Check("each is taken for its model", waiting.All(m => m.Model.Length > 0), string.Join(", ", waiting.Select(m => m.Model).Order()));

        Step("One is approved, and refused: the image has no drivers for it.");
        Show("station approve TV-00001 --name TVL-DESK-001 --image \"Lending desk@production\"");
        var refused = "";
        try
        {
            await ApproveAsync(client, 1).ConfigureAwait(false);
        }
        catch (VembarException problem)
        {
            refused = problem.Message;
            Say($"   {AdviceText.MessageOf(problem)}");
            foreach (var detail in problem.Details)
                Say($"     {detail}");
        }
        Check("nothing was written", refused.Length > 0 && new FileInfo(Disk(1)).Length > 0 && IsEmpty(Disk(1)), "the disk is as it was");

        Step("The image gets its drivers, where it is: in the station's archive.");
        Show($"service \"{_address}/archives/desks#Lending desk\" --driver drivers --as \"Lending desk\"");
        Own("service", $"{_address}/archives/desks#1", "--driver", At("drivers"), "--trust", At("trust"), "--as", "Lending desk",
            "--version", "2026.10", "--ca", At("station/authority.pem"));
        Own("mark", $"{_address}/archives/desks#2", "--channel", "production", "--ca", At("station/authority.pem"));

        Step("Now two are approved, and get it. The second one was in use for years: what its users made is to be kept.");
        Show("station approve TV-00001 --name TVL-DESK-001 --image \"Lending desk@production\"");
        Show("station approve TV-00002 --name TVL-DESK-002 --image \"Lending desk@production\" --user-files keep");
        await ApproveAsync(client, 1).ConfigureAwait(false);
        await ApproveAsync(client, 2, "keep").ConfigureAwait(false);
        var ended = await UntilAsync(client, all => all.Count(m => m.State is MachineState.Checked or MachineState.Failed
            or MachineState.Done) == 2).ConfigureAwait(false);
        Shown(() => MachinePage.List(ended, _session));
        Check("both are checked: all is so that was expected", ended.Count(m => m.State == MachineState.Checked) == 2,
            string.Join(", ", ended.Select(m => $"{MachinePage.Name(m)} {m.State.ToString().ToLowerInvariant()}")));
        var detail1 = await client.MachineAsync("TVL-DESK-001", _session.Cancellation).ConfigureAwait(false);
        if (detail1.Outcome?.Result is { } result)
        {
            Shown(() => MachinePage.Result(result));
            Check("every device of it has a driver", result.Drivers.All(d => d.Driver.Length > 0), $"{result.Drivers.Count} devices");
        }

        var detail2 = await client.MachineAsync("TVL-DESK-002", _session.Cancellation).ConfigureAwait(false);
        Say();
        Say($"   Of {OldDesk.Machine}, which is TVL-DESK-002 now:");
        foreach (var laid in detail2.Outcome?.Result?.UserFiles ?? [])
            Say($"   {laid.Account}: {Text.Count(laid.Files, "file")} in {laid.To}{(laid.IsProfile ? ", the account's profile" : "")}");
        Check("what users made is there again", detail2.Outcome?.Result?.UserFiles.Count == 3,
            $"{detail2.Outcome?.Result?.UserFiles.Count ?? 0} accounts");

        Step("The third one is a reference: it is captured from where it stands, and only what is new crosses the line.");
        Show("station capture TV-00003 --name Bookmobile");
        var before = new FileInfo(At("desks.vmb")).Length;
        await client.CaptureAsync("TV-00003", new CaptureOrder("Bookmobile", null, null, "2026.10", false), _session.Cancellation)
            .ConfigureAwait(false);
        await UntilAsync(client, all => all.Any(m => m.Task is null && m.Identity.Serial == "TV-00003" && m.State is MachineState.Done
            or MachineState.Failed)).ConfigureAwait(false);
        var grown = new FileInfo(At("desks.vmb")).Length - before;
        foreach (var line in Own("list", At("desks.vmb")).TrimEnd().Split('\n'))
            Say(line);
        Check("the archive grew by less than a third of itself", grown > 0 && grown * 3 < before, Text.Size(grown));
        Step("What happened to the first one:");
        Show("station log TVL-DESK-001");
        var events = await client.EventsAsync("TVL-DESK-001", 0, _session.Cancellation).ConfigureAwait(false);
        Shown(() => MachinePage.Events(events));
        if (_isEmulated)
            await EmulateAsync(client).ConfigureAwait(false);
        Say();
    }

    // From power-on to its image, with nobody at it.
    private async Task EmulateAsync(StationClient client)
    {
        const int Number = Machines + 1;
        Step("A starter, for bare machines: a kernel and a small file system, made of Debian's packages.");
        Show("starter make starters/2026.11 --version 2026.11 --authority authority.pem");
        Directory.CreateDirectory(At("starters"));
        Own("starter", "make", At("starters/2026.11"), "--version", "2026.11", "--authority", At("station/authority.pem"), "--quiet");
        Say($"   {Text.Size(Directory.EnumerateFiles(At("starters/2026.11")).Sum(f => new FileInfo(f).Length))}");

        Step("A bare machine is switched on, under QEMU. It gets the starter from the network, and joins.");
        using (var disk = File.Create(Disk(Number)))
            disk.SetLength(2L << 30);
        using var machine = EmulatedMachine.SwitchOn(DemoNetwork.Bridge, DemoNetwork.Cable, Disk(Number), At("machine-4.log"), Number);
        var clock = Stopwatch.StartNew();
        bool Is(MachineInfo info) => info.Identity.Serial == "TV-00004";
        await UntilAsync(client, all =>
        {
            machine.EnsureItGoesOn();
            return all.Any(m => Is(m) && m.State == MachineState.Waiting);
        }, s_emulatedPatience).ConfigureAwait(false);
        foreach (var line in machine.Said(4))
            Say($"   | {line}");
        Check("it waits at the station", true, $"{Text.Duration(clock.Elapsed.TotalSeconds)} after it was switched on");

        Step("It is approved: the image has no drivers for QEMU's devices, and that is accepted.");
        Show("station approve TV-00004 --name TVL-DESK-004 --image \"Lending desk@production\" --accept no-driver --accept "
            + "no-storage-driver");
        await client.ApproveAsync("TV-00004", new Approval
        {
            Name = "TVL-DESK-004",
            Image = "Lending desk@production",
            Accept = ["no-driver", "no-storage-driver"],
        }, _session.Cancellation).ConfigureAwait(false);
        var ended = await UntilAsync(client, all => all.Any(m => Is(m) && m.State is MachineState.Done or MachineState.Checked
            or MachineState.Failed), s_emulatedPatience).ConfigureAwait(false);
        foreach (var line in machine.Said(6))
            Say($"   | {line}");
        Check("it has its image", ended.First(Is).State is MachineState.Done or MachineState.Checked,
            $"{Text.Duration(clock.Elapsed.TotalSeconds)} after it was switched on");
        foreach (var line in Own("survey", Disk(Number)).TrimEnd().Split('\n'))
            Say($"   {line}");
    }

    private static bool IsEmpty(string disk)
    {
        var bytes = new byte[1 << 20];
        using var file = File.OpenRead(disk);
        file.ReadExactly(bytes);
        return bytes.All(b => b == 0);
    }

    private string Disk(int number) => At(string.Create(CultureInfo.InvariantCulture, $"machine-{number}.img"));

    private Task<MachineInfo> ApproveAsync(StationClient client, int number, string? userFiles = null) => client.ApproveAsync(
        string.Create(CultureInfo.InvariantCulture, $"TV-{number:00000}"), new Approval
        {
            Name = string.Create(CultureInfo.InvariantCulture, $"TVL-DESK-{number:000}"),
            Site = "Staithe",
            Image = "Lending desk@production",
            Expectations = "desk",
            UserFiles = userFiles,
        }, _session.Cancellation);

    private void StartStation()
    {
        var process = HelperProcess.Start(new HelperStart(StationServeCommand.Find()!, ["--config",
            At("station.yaml")])
        { Folder = _folder });
        _processes.Add(process);
        var log = process.Error.ReadToEndAsync();
        while (_token.Length == 0 && process.Output.ReadLine() is { } line)
        {
            if (line.Contains("vst_", StringComparison.Ordinal))
                _token = line.Trim();
        }
        if (_token.Length == 0)
            throw VembarException.Environment("demo-failed", $"the station did not start: {log.Result}");
        _address = string.Create(CultureInfo.InvariantCulture, $"https://{_network.Station}:{_network.Port}");
    }

    private void Join(int number)
    {
        const long Bytes = 2L << 30;
        var sys = At(string.Create(CultureInfo.InvariantCulture, $"sys-{number}"));
        var isReference = number == Machines;
        DemoMachine.Write(sys, At(isReference ? "hardware/wharf-11.yaml" : "hardware/oakmere-m4.yaml"),
            string.Create(CultureInfo.InvariantCulture, $"TV-{number:00000}"), number);
        if (isReference)
            File.Copy(At("disks/bookmobile.vhdx"), Disk(number));
        else if (number == Used)
            OldDesk.Make(Disk(number), DiskFormat.Raw, _session.Cancellation);
        else
        {
            using var disk = File.Create(Disk(number));
            disk.SetLength(Bytes);
        }
        string[] join = [Environment.ProcessPath!, "station", "join", _address, "--ca", At("station/authority.pem"), "--from", sys,
            "--disk", Disk(number), "--quiet"];
        string[] command = _network.IsThere ? ["ip", "netns", "exec", DemoNetwork.Space(number), .. join] : join;
        var known = Known();
        known["VEMBAR_TOKEN"] = "";
        known["HOME"] = At($"home-{number}");
        var process = HelperProcess.Start(new HelperStart(HelperProcess.Find(command[0])!, command[1..]) { Environment = known });
        _ = process.EachLine(_ => { });
        _processes.Add(process);
    }

    private async Task<IReadOnlyList<MachineInfo>> UntilAsync(StationClient client, Func<IReadOnlyList<MachineInfo>, bool> isSo,
        TimeSpan? patience = null)
    {
        var clock = Stopwatch.StartNew();
        while (true)
        {
            var all = await client.MachinesAsync(_session.Cancellation).ConfigureAwait(false);
            if (isSo(all))
                return all;
            if (clock.Elapsed > (patience ?? s_patience))
                throw VembarException.Environment("demo-failed", "the machines did not do what they should in time: "
                    + string.Join("; ", all.Select(m => $"{MachinePage.Name(m)} {m.State} {m.Remark}")));
            await Task.Delay(TimeSpan.FromMilliseconds(200), _session.Cancellation).ConfigureAwait(false);
        }
    }

    public void Dispose()
    {
        foreach (var process in _processes.AsEnumerable().Reverse())
        {
            if (!process.HasExited)
                process.Kill();
            process.WaitForExit();
            process.Dispose();
        }
        _network.Dispose();
    }
}
