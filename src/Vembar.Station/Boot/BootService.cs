using System.Collections.Concurrent;
using System.Diagnostics;
using System.Globalization;
using System.Net.NetworkInformation;
using System.Net.Sockets;
using System.Text;
using System.Text.RegularExpressions;
using Vembar.Common;
using Vembar.Common.Files;
using Vembar.Native.Helpers;
using Vembar.Operations.Starters;
using Vembar.Operations.Stations.Contract;
using Vembar.Station.Hosting;
using Vembar.Station.Machines;
using Vembar.Station.Problems;

namespace Vembar.Station.Boot;

/// <summary>Lets machines start from the network: keeps the folder of boot loaders, and dnsmasq running.</summary>
public sealed partial class BootService(StationSettings settings, StationRegister register, MachineStore machines, StarterChoice choice,
    TimeProvider clock, ILogger<BootService> log)
{
    private static readonly TimeSpan s_often = TimeSpan.FromSeconds(2), s_again = TimeSpan.FromSeconds(5);

    private string Folder => Path.Combine(settings.Options.Data, "boot");

    private string Tftp => Path.Combine(Folder, "tftp");

    /// <summary>Where dnsmasq is; null where it is not installed.</summary>
    internal static string? Program =>
        ((string[])["/usr/sbin/dnsmasq", "/usr/bin/dnsmasq", "/sbin/dnsmasq"]).FirstOrDefault(File.Exists);

    private BootOptions Boot => settings.Options.Boot;

    private string Station => register.Own is [var first, ..] ? first.TrimEnd('/') : "";

    /// <summary>The first script that iPXE asks for.</summary>
    public string FirstScript() => BootScripts.First(Boot);

    /// <summary>What a machine does that says who it is.</summary>
    public async Task<string> ScriptAsync(string uuid, string serial, string mac, CancellationToken cancellation)
    {
        var identity = new MachineIdentity { Uuid = uuid, Serial = serial, Addresses = mac.Length > 0 ? [mac] : [] };
        var row = await machines.FindByIdentifierAsync(Identifiers.Of(identity), cancellation).ConfigureAwait(false);
        if (row is not null && IsIdle(row))
            return BootScripts.GoOn;
        var address = mac.ToLowerInvariant();
        var (starter, silent) = choice.For(row, address, await machines.AllAsync(cancellation).ConfigureAwait(false));
        await NoteAsync(row, address, starter, silent, cancellation).ConfigureAwait(false);
        return BootScripts.Run(Boot, Path.GetFileName(starter.Folder.TrimEnd('/')), Station);
    }

    private async Task NoteAsync(MachineRow? row, string address, Starter starter, string? silent, CancellationToken cancellation)
    {
        if (silent is null)
        {
            choice.Hand(address, starter.Manifest.Version);
            return;
        }
        BootLog.Silent(log, silent, address, starter.Manifest.Version);
        if (row is not null)
            await machines.NoteAsync(row.Id, [new NewEvent("starter", "warning", string.Create(CultureInfo.InvariantCulture,
                $"the starter {silent} did not report within {Boot.ReportWithin.TotalMinutes:0} min: it gets {starter.Manifest.Version}"))],
                cancellation).ConfigureAwait(false);
    }

    // It has its image, and nobody wants anything else of it.
    private static bool IsIdle(MachineRow row) => row.State is MachineState.Done or MachineState.Checked;

    /// <summary>A file of a starter.</summary>
    /// <exception cref="StationException">There is none.</exception>
    public string FileOf(string starter, string name)
    {
        var folder = settings.Options.Starters;
        if (folder is null || name is not (StarterManifest.KernelFile or StarterManifest.InitialFile)
            || starter != Path.GetFileName(starter) || starter is "." or ".." or ""
            || Path.Combine(folder, starter, name) is var path && !File.Exists(path))
            throw StationException.NotFound("no-such-starter", "the station has no such starter");
        return path;
    }

    /// <summary>A boot loader, for firmware that fetches by HTTP.</summary>
    /// <exception cref="StationException">There is none.</exception>
    public string LoaderOf(string name) =>
        name is DnsmasqFile.BiosLoader or DnsmasqFile.UnsignedUefiLoader && Path.Combine(Tftp, name) is var path && File.Exists(path)
            ? path : throw StationException.NotFound("no-such-loader", "the station has no such boot loader");

    /// <summary>Runs until it is ended; at once where machines do not start from the network.</summary>
    public async Task RunAsync(CancellationToken cancellation)
    {
        if (Boot.Mode == BootMode.Off)
            return;
        var files = KeepFilesAsync(cancellation);
        var routers = Boot.Mode == BootMode.Full ? AnswerRoutersAsync(cancellation) : Task.CompletedTask;
        while (!cancellation.IsCancellationRequested)
        {
            try
            {
                await ServeAsync(cancellation).ConfigureAwait(false);
            }
            catch (Exception failure) when (failure is VembarException or IOException)
            {
                BootLog.Failed(log, failure.Message);
            }
            await Task.Delay(s_again, clock, cancellation).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
        await files.ConfigureAwait(false);
        await routers.ConfigureAwait(false);
    }

    private async Task AnswerRoutersAsync(CancellationToken cancellation)
    {
        var isSaid = false;
        while (!cancellation.IsCancellationRequested)
        {
            try
            {
                await RouterAnswers.RunAsync(Boot.Interface, cancellation).ConfigureAwait(false);
            }
            catch (OperationCanceledException)
            {
                return;
            }
            catch (Exception failure) when (failure is SocketException or NetworkInformationException)
            {
                // The interface may come later.
                if (!isSaid)
                    BootLog.NoRouterAnswers(log, failure.Message);
                isSaid = true;
            }
            await Task.Delay(s_again, clock, cancellation).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
    }

    private async Task KeepFilesAsync(CancellationToken cancellation)
    {
        var written = "";
        while (!cancellation.IsCancellationRequested)
        {
            try
            {
                var all = await machines.AllAsync(cancellation).ConfigureAwait(false);
                var usual = choice.Usual();
                var others = OthersOf(usual, all);
                var grub = BootScripts.Grub(Boot, Station, FolderOf(usual), all.Where(IsIdle).SelectMany(AddressesOf),
                    others.Select(o => (o.Address, FolderOf(o.Starter))));
                var used = others.Select(o => o.Starter).Append(usual).DistinctBy(s => s.Folder).ToList();
                var state = string.Join(' ', used.Select(s => $"{s.Folder} {s.Manifest.Files[0].Sha256}")) + grub;
                if (state != written)
                {
                    Put(usual, used, grub);
                    written = state;
                }
            }
            catch (Exception failure) when (failure is VembarException or IOException or System.Data.Common.DbException)
            {
                BootLog.Failed(log, failure.Message);
            }
            await Task.Delay(s_often, clock, cancellation).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
    }

    private static string FolderOf(Starter starter) => Path.GetFileName(starter.Folder.TrimEnd('/'));

    // As boot loaders write them.
    private static IEnumerable<string> AddressesOf(MachineRow row) => row.Document.Identity.Addresses
        .Where(a => a.Length == 17 && a.All(c => char.IsAsciiHexDigit(c) || c == ':')).Select(a => a.ToLowerInvariant());

    // Machines that get another starter than most.
    private List<(string Address, Starter Starter)> OthersOf(Starter usual, List<MachineRow> all) =>
        [.. all.SelectMany(r => AddressesOf(r).Select(a => (Address: a, Row: (MachineRow?)r)))
            .Concat(choice.Open.Select(a => (Address: a, Row: (MachineRow?)null))).DistinctBy(p => p.Address)
            .Select(p => (p.Address, choice.For(p.Row, p.Address, all).Starter)).Where(o => o.Starter.Folder != usual.Folder)];

    private void Put(Starter starter, IReadOnlyList<Starter> used, string grub)
    {
        Directory.CreateDirectory(Path.Combine(Tftp, "grub"));
        foreach (var loader in starter.Manifest.Loaders)
            Replace(Path.Combine(starter.Folder, loader), Path.Combine(Tftp, loader));
        // Links would lead out of the folder that is served; a copy is whole before it has the name.
        foreach (var each in used)
        {
            var folder = Directory.CreateDirectory(Path.Combine(Tftp, BootScripts.TftpFolder, FolderOf(each))).FullName;
            foreach (var name in (string[])[StarterManifest.KernelFile, StarterManifest.InitialFile])
                Replace(Path.Combine(each.Folder, name), Path.Combine(folder, name));
        }
        var kept = used.Select(FolderOf).ToHashSet();
        foreach (var left in Directory.EnumerateDirectories(Path.Combine(Tftp, BootScripts.TftpFolder))
            .Where(f => !kept.Contains(Path.GetFileName(f))).ToList())
            Directory.Delete(left, recursive: true);
        WholeFile.Write(Path.Combine(Tftp, "grub", "grub.cfg"), Encoding.UTF8.GetBytes(grub));
    }

    private static void Replace(string from, string to)
    {
        var (source, target) = (new FileInfo(from), new FileInfo(to));
        if (target.Exists && target.Length == source.Length && target.LastWriteTimeUtc == source.LastWriteTimeUtc)
            return;
        File.Copy(from, $"{to}.new", overwrite: true);
        File.SetLastWriteTimeUtc($"{to}.new", source.LastWriteTimeUtc);
        File.Move($"{to}.new", to, overwrite: true);
    }

    private async Task ServeAsync(CancellationToken cancellation)
    {
        Directory.CreateDirectory(Tftp);
        var file = Path.Combine(Folder, "dnsmasq.conf");
        await File.WriteAllTextAsync(file, DnsmasqFile.Make(Boot, Tftp, Folder), cancellation).ConfigureAwait(false);
        var program = Program
            ?? throw VembarException.Environment("program-missing", "dnsmasq is not installed, so no machine starts from the network",
            "Install it (Debian: dnsmasq-base).");
        EndLeftOver(file);
        using var process = HelperProcess.Start(new HelperStart(program,
            ["--keep-in-foreground", $"--conf-file={file}", "--log-facility=-", $"--user={Environment.UserName}"]));
        _ = process.EachLine(Tell);
        try
        {
            await process.WaitForExitAsync(cancellation).ConfigureAwait(false);
            throw VembarException.Environment("boot-ended", $"dnsmasq ended with {process.ExitCode}", "Its last lines say why.");
        }
        catch (OperationCanceledException)
        {
            process.Kill();
            await process.WaitForExitAsync(CancellationToken.None).ConfigureAwait(false);
        }
    }

    // A station that was killed left it running, and it has the ports.
    private void EndLeftOver(string file)
    {
        var path = Path.Combine(Folder, DnsmasqFile.ProcessFile);
        try
        {
            if (!File.Exists(path)
                || !int.TryParse(File.ReadAllText(path).Trim(), NumberStyles.None, CultureInfo.InvariantCulture, out var id)
                || !File.ReadAllText($"/proc/{id}/cmdline").Contains($"--conf-file={file}\0", StringComparison.Ordinal))
                return;
            using var left = Process.GetProcessById(id);
            left.Kill();
            left.WaitForExit(TimeSpan.FromSeconds(5));
        }
        catch (Exception gone) when (gone is IOException or ArgumentException or InvalidOperationException or UnauthorizedAccessException)
        {
            // It ended by itself.
        }
    }

    private void Tell(string? line)
    {
        if (string.IsNullOrEmpty(line))
            return;
        BootLog.Said(log, line);
        // Who was given which address, and who then fetched a kernel: the signed GRUB does not say who it is.
        if (AddressGiven().Match(line) is { Success: true } given)
            _given[given.Groups[1].Value] = given.Groups[2].Value;
        if (KernelSent().Match(line) is { Success: true } sent
            && (_given.GetValueOrDefault(sent.Groups[2].Value) ?? Neighbour(sent.Groups[2].Value)) is { } address)
            _ = HandedAsync(address, sent.Groups[1].Value);
    }

    // Where another server gave it its address: the kernel has just sent to it (proc_net(5), arp).
    private static string? Neighbour(string address)
    {
        const int HardwareAddress = 3;
        try
        {
            return File.ReadLines("/proc/net/arp").Select(l => l.Split(' ', StringSplitOptions.RemoveEmptyEntries))
                .FirstOrDefault(f => f.Length > HardwareAddress && f[0] == address)?[HardwareAddress];
        }
        catch (IOException)
        {
            return null;
        }
    }

    private readonly ConcurrentDictionary<string, string> _given = new();

    [GeneratedRegex(@"DHCPACK\([^)]*\) ([0-9.]+) ([0-9a-f:]{17})")]
    private static partial Regex AddressGiven();

    [GeneratedRegex(@"sent \S*/" + BootScripts.TftpFolder + @"/([^/]+)/" + StarterManifest.KernelFile + @" to ([0-9.]+)")]
    private static partial Regex KernelSent();

    private async Task HandedAsync(string address, string folder)
    {
        try
        {
            var all = await machines.AllAsync(CancellationToken.None).ConfigureAwait(false);
            var row = all.FirstOrDefault(r => AddressesOf(r).Contains(address));
            var (starter, silent) = choice.For(row, address, all);
            if (FolderOf(starter) == folder)
                await NoteAsync(row, address, starter, silent, CancellationToken.None).ConfigureAwait(false);
        }
        catch (Exception failure) when (failure is VembarException or System.Data.Common.DbException)
        {
            BootLog.Failed(log, failure.Message);
        }
    }
}
