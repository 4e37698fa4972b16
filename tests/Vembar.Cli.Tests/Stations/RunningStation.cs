using System.Collections.Concurrent;
using System.Diagnostics;
using System.Globalization;
using System.Net.Http.Headers;
using System.Text.Json;
using Vembar.Demo;
using Vembar.Operations.Stations;
using Vembar.Operations.Stations.Contract;
using Vembar.Store.Places.Remote;
using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests.Stations;

/// <summary>A station on loopback, with machines that join it.</summary>
public sealed class RunningStation : IDisposable
{
    private readonly TempFolder _folder = new();
    private readonly List<Process> _machines = [];
    private readonly World _world;
    private readonly int _port;
    private readonly string _host;
    private readonly string _data;
    private readonly string? _space;
    private readonly RunningStation? _central;
#pragma warning disable CA5400 // a station of the test's own
    private readonly HttpClient _http = new(new HttpClientHandler { ServerCertificateCustomValidationCallback = (_, _, _, _) => true });
#pragma warning restore CA5400
    private Process? _process;

    /// <param name="world">The demo's world.</param>
    /// <param name="database">postgresql://…; null for SQLite.</param>
    /// <param name="more">What else its file says.</param>
    /// <param name="authority">The folder of a station whose authority it shares; null for one of its own.</param>
    /// <param name="host">The address that it listens at.</param>
    /// <param name="data">Where it keeps what is its own.</param>
    /// <param name="space">The network namespace that it is in; null for the test's own.</param>
    /// <param name="central">A station whose archive it reads through; null for one of its own.</param>
    /// <param name="keys">A folder with the authority that it is to have; null for a new one.</param>
    public RunningStation(World world, string? database = null, string more = "", RunningStation? authority = null,
        RunningStation? central = null, string host = "127.0.0.1", string data = "data", string? space = null,
        string? keys = null)
    {
        _host = host;
        _data = data;
        _space = space;
        _central = central;
        _world = world;
        _port = LoopbackServers.Port();
        File.Copy(world.Archive, At("desks.vmb"));
        File.WriteAllText(At("station.yaml"), string.Create(CultureInfo.InvariantCulture, $"""
            listen: '{host}:{_port}'
            addresses: [ 'https://{host}:{_port}' ]
            data: {data}
            archives: {"{"} desks: {authority?.At("desks.vmb") ?? central?.Archive ?? "desks.vmb"}, fresh: fresh.vmb {"}"}
            hardware: {world.At("hardware")}
            {(database is null ? "" : $"database: '{database}'")}
            {(central is null ? "" : $"ca: {central.Authority}")}
            {more}

            """));
        if ((keys ?? authority?.At("data")) is { } folder)
        {
            Directory.CreateDirectory(At("data"));
            foreach (var file in (string[])["authority.pem", "authority.key"])
                File.Copy(Path.Combine(folder, file), At($"data/{file}"));
        }
        Token = authority?.Token ?? "";
        Start();
    }

    /// <summary>How long is waited for a machine.</summary>
    public TimeSpan Patience { get; init; } = TimeSpan.FromMinutes(2);

    /// <summary>The version of the starter that machines say they run; empty for none.</summary>
    public string Starter { get; set; } = "";

    /// <summary>The network namespace that a machine is in, where it is not the station's.</summary>
    public Func<int, string>? SpaceOf { get; init; }

    /// <summary>Where machines have all their files that are not on the disk, a RAM disk; null for folders of their own.</summary>
    public string? RamDisk { get; init; }

    public string At(string path) => _folder.At(path);

    public string Address => string.Create(CultureInfo.InvariantCulture, $"https://{_host}:{_port}");

    public string Archive => $"{Address}/archives/desks";

    public string Authority => Path.Combine(At(_data), "authority.pem");

    /// <summary>The first administrator's token.</summary>
    public string Token { get; private set; } = "";

    /// <summary>Starts it, and returns when it answers.</summary>
    public void Start()
    {
        string[] program = [Vembar.Station, "--config", At("station.yaml")];
        string[] command = _space is null ? program : ["ip", "netns", "exec", _space, .. program];
        var start = new ProcessStartInfo(command[0], command[1..])
        {
            RedirectStandardOutput = true,
            RedirectStandardError = true,
            WorkingDirectory = _folder.Path,
        };
        if (_central is not null)
        {
            start.Environment["VEMBAR_HOST"] = new Uri(_central.Address).Authority;
            start.Environment["VEMBAR_TOKEN"] = _central.Token;
        }
        _process = Process.Start(start)!;
        _process.ErrorDataReceived += (_, line) => _log.Enqueue(line.Data ?? "");
        _process.BeginErrorReadLine();
        var output = _process.StandardOutput;
        while (output.ReadLine() is { } line)
        {
            if (line.Contains("It serves", StringComparison.Ordinal) && Token.Length > 0)
                break;
            if (!line.Contains("vst_", StringComparison.Ordinal))
                continue;
            Token = line.Trim();
            break;
        }
        _ = Task.Run(() => output.ReadToEndAsync());
        Assert.False(_process.HasExited, string.Join('\n', _log));
    }

    private readonly ConcurrentQueue<string> _log = new();

    /// <summary>Ends it as a power cut does.</summary>
    public void Kill()
    {
        _process!.Kill();
        _process.WaitForExit();
        _process.Dispose();
        _process = null;
    }

    /// <summary>Asks it to end, and waits for it.</summary>
    /// <returns>Its exit code.</returns>
    public int Stop()
    {
        Tools.Run("kill", ["-TERM", _process!.Id.ToString(CultureInfo.InvariantCulture)]);
        _process.WaitForExit();
        var code = _process.ExitCode;
        _process.Dispose();
        _process = null;
        return code;
    }

    public void Reload() => Tools.Run("kill", ["-HUP", _process!.Id.ToString(CultureInfo.InvariantCulture)]);

    /// <summary>Speaks to it.</summary>
    public StationClient Client(string? token = null) => new(Address, new PlaceOptions
    {
        CaFile = Authority,
        SpoolFolder = At("spool"),
        Retries = 8,
        IsPatient = true,
        Credentials = _ => new PlaceCredentials("", token ?? Token, IsToken: true),
    });

    private void Prepare(ProcessStartInfo start, string home, string token, string? space)
    {
        Directory.CreateDirectory(home);
        start.Environment["HOME"] = home;
        foreach (var name in (string[])["XDG_CONFIG_HOME", "XDG_CACHE_HOME", "XDG_STATE_HOME"])
            start.Environment.Remove(name);
        start.Environment["VEMBAR_HOST"] = $"{_host}:{_port}";
        start.Environment["VEMBAR_TOKEN"] = token;
        start.Environment["VEMBAR_STATION"] = Address;
        start.WorkingDirectory = _folder.Path;
        if (space is null)
            return;
        // Whoever speaks to it is where it is.
        string[] command = ["netns", "exec", space, start.FileName, .. start.ArgumentList];
        start.FileName = "ip";
        start.ArgumentList.Clear();
        foreach (var argument in command)
            start.ArgumentList.Add(argument);
    }

    /// <summary>Runs the program as somebody with a token.</summary>
    public Ran Run(params string[] arguments) => RunAs(Token, arguments);

    public Ran RunAs(string token, params string[] arguments) => Vembar.Finish(Vembar.Start([.. arguments, "--ca", Authority],
        start => Prepare(start, At("home"), token, _space)));

    public Ran Ok(params string[] arguments)
    {
        var ran = Run(arguments);
        Assert.True(ran.Code == 0, $"{string.Join(' ', arguments)}: {ran.Output}{ran.Error}");
        return ran;
    }

    /// <summary>The disk of a machine.</summary>
    public string Disk(int number) => At(string.Create(CultureInfo.InvariantCulture, $"disk-{number}.img"));

    /// <summary>Whether a machine's disk says that it is being written: it does as soon as it is divided.</summary>
    public bool HasNote(int number)
    {
        var bytes = new byte[8];
        using var file = File.OpenRead(Disk(number));
        file.Position = 64 << 10;
        return file.Read(bytes) == bytes.Length && bytes.AsSpan().SequenceEqual("VMBNOTE1"u8);
    }

    /// <summary>Waits until a machine's disk is divided, or the machine has ended.</summary>
    public void WaitForNote(int number, Process machine)
    {
        for (var tries = 0; tries < 4000 && !HasNote(number) && !machine.HasExited; tries++)
            Thread.Sleep(5);
    }

    /// <summary>Starts a machine.</summary>
    /// <param name="number">Tells it from others.</param>
    /// <param name="model">The hardware profile of its model.</param>
    /// <param name="disk">Its disk; null for an empty one of 2 GiB, made where there is none.</param>
    /// <param name="stations">Stations that it knows; this one where none is named.</param>
    public Process Join(int number, string model = "wharf-11", string? disk = null, params string[] stations) =>
        Join(number, model, disk, [], null, stations);

    /// <inheritdoc cref="Join(int, string, string?, string[])"/>
    /// <param name="more">Further options.</param>
    /// <param name="input">What is typed at it; null for nobody there.</param>
    public Process Join(int number, string model, string? disk, string[] more, string? input, params string[] stations) =>
        Join(number, model, disk, more, input, stations, null);

    /// <summary>Starts a machine whose clock is off.</summary>
    /// <param name="number">Tells it from others.</param>
    /// <param name="model">The hardware profile of its model.</param>
    /// <param name="clock">By how much: "-1d".</param>
    public Process JoinAtAnotherTime(int number, string model, string clock) => Join(number, model, null, [], null, [], clock);

    private Process Join(int number, string model, string? disk, string[] more, string? input, string[] stations, string? clock)
    {
        var sys = At(string.Create(CultureInfo.InvariantCulture, $"sys-{number}"));
        if (!Directory.Exists(sys))
            DemoMachine.Write(sys, _world.At($"hardware/{model}.yaml"), Serial(number), number);
        if (disk is null && !File.Exists(Disk(number)))
        {
            using var made = File.Create(Disk(number));
            made.SetLength(2L << 30);
        }
        var process = Vembar.Start(["station", "join", .. stations.Length > 0 ? stations : [Address], "--ca", Authority, "--from", sys,
            "--disk", disk ?? Disk(number), "--once", "--json", .. more],
            start =>
            {
                Prepare(start, At(string.Create(CultureInfo.InvariantCulture, $"home-{number}")), "none",
                    SpaceOf?.Invoke(number) ?? _space);
                if (RamDisk is not null)
                    start.Environment["HOME"] = start.Environment["TMPDIR"] = RamDisk;
                if (Starter.Length > 0)
                    start.Environment["VEMBAR_STARTER"] = Starter;
                start.RedirectStandardInput = input is not null;
                if (clock is null)
                    return;
                start.Environment["LD_PRELOAD"] = "libfaketimeMT.so.1";
                start.Environment["LD_LIBRARY_PATH"] =
                    Directory.EnumerateFiles("/usr/lib", "libfaketimeMT.so.1", SearchOption.AllDirectories)
                    .Select(Path.GetDirectoryName).First();
                start.Environment["FAKETIME"] = clock;
                start.Environment["FAKETIME_DONT_FAKE_MONOTONIC"] = "1";
            });
        if (input is not null)
        {
            process.StandardInput.Write(input);
            process.StandardInput.Close();
        }
        lock (_machines)
            _machines.Add(process);
        return process;
    }

    public static string Serial(int number) => string.Create(CultureInfo.InvariantCulture, $"TV-{number:00000}");

    /// <summary>What a machine's program gave at its end.</summary>
    public static Ran Finish(Process machine)
    {
        var error = machine.StandardError.ReadToEndAsync();
        var output = machine.StandardOutput.ReadToEnd();
        machine.WaitForExit();
        return new Ran(machine.ExitCode, output, error.Result);
    }

    /// <summary>Asks the station for a JSON document, without starting the program: by curl if the station is in a network of its
    /// own.</summary>
    /// <param name="path">"/api/…".</param>
    /// <returns>Null if it does not answer.</returns>
    public string? Get(string path)
    {
        if (_space is not null)
        {
            var (code, output, _) = Tools.Try("ip", ["netns", "exec", _space, "curl", "-s", "-f", "-g", "--cacert", Authority, "-H",
                $"Authorization: Bearer {Token}", Address + path]);
            return code == 0 ? output : null;
        }
        try
        {
            using var request = new HttpRequestMessage(HttpMethod.Get, Address + path);
            request.Headers.Authorization = new AuthenticationHeaderValue("Bearer", Token);
            using var response = _http.Send(request);
            using var reader = new StreamReader(response.Content.ReadAsStream());
            return response.IsSuccessStatusCode ? reader.ReadToEnd() : null;
        }
        catch (HttpRequestException)
        {
            return null;
        }
    }

    /// <summary>Waits until a machine is as it should be.</summary>
    public MachineInfo WaitFor(int number, Func<MachineInfo, bool> isSo, string what)
    {
        var clock = Stopwatch.StartNew();
        MachineInfo? last = null;
        while (clock.Elapsed < Patience)
        {
            if (Get("/api/machines") is { } machines)
            {
                last = JsonSerializer.Deserialize(machines, StationJson.Default.IReadOnlyListMachineInfo)!
                    .FirstOrDefault(m => m.Identity.Serial == Serial(number));
                if (last is not null && isSo(last))
                    return last;
            }
            Thread.Sleep(50);
        }
        throw new InvalidOperationException($"machine {number} did not become {what}: {last}\n{string.Join('\n', _log.TakeLast(5))}");
    }

    public MachineInfo WaitFor(int number, MachineState state) => WaitFor(number, m => m.State == state, state.ToString());

    public void Dispose()
    {
        foreach (var machine in _machines)
        {
            if (!machine.HasExited)
                machine.Kill(entireProcessTree: true);
            machine.Dispose();
        }
        _process?.Kill();
        _process?.WaitForExit();
        _process?.Dispose();
        _http.Dispose();
        _folder.Dispose();
    }
}
