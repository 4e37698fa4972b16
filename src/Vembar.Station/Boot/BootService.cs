using System.Diagnostics;
using System.Globalization;
using Vembar.Common;
using Vembar.Operations.Starters;
using Vembar.Operations.Stations.Contract;
using Vembar.Station.Hosting;
using Vembar.Station.Machines;
using Vembar.Station.Problems;

namespace Vembar.Station.Boot;

/// <summary>Lets machines start from the network: keeps the folder of boot loaders, and dnsmasq running.</summary>
public sealed class BootService(StationSettings settings, StationRegister register, MachineStore machines, TimeProvider clock,
    ILogger<BootService> log)
{
    private static readonly TimeSpan s_often = TimeSpan.FromSeconds(2), s_again = TimeSpan.FromSeconds(5);

    private string Folder => Path.Combine(settings.Options.Data, "boot");

    private string Tftp => Path.Combine(Folder, "tftp");

    /// <summary>Where dnsmasq is; null where it is not installed.</summary>
    internal static string? Program =>
        ((string[])["/usr/sbin/dnsmasq", "/usr/bin/dnsmasq", "/sbin/dnsmasq"]).FirstOrDefault(File.Exists);

    private BootOptions Boot => settings.Options.Boot;

    private string Station => register.Own is [var first, ..] ? first.TrimEnd('/') : "";

    /// <summary>The starter that machines get.</summary>
    /// <exception cref="VembarException">There is none.</exception>
    public Starter Starter() => settings.Options.Starters is { } folder && Directory.Exists(folder)
        && Operations.Starters.Starter.All(folder) is [.., var newest] ? newest
        : throw VembarException.Input("no-starter", $"the station has no starter in '{settings.Options.Starters}'",
        "Make one with `vembar starter make`, in a folder below that.");

    /// <summary>The first script that iPXE asks for.</summary>
    public string FirstScript() => BootScripts.First(Boot);

    /// <summary>What a machine does that says who it is.</summary>
    public async Task<string> ScriptAsync(string uuid, string serial, string mac, CancellationToken cancellation)
    {
        var identity = new MachineIdentity { Uuid = uuid, Serial = serial, Addresses = mac.Length > 0 ? [mac] : [] };
        var row = await machines.FindByIdentifierAsync(Identifiers.Of(identity), cancellation).ConfigureAwait(false);
        return row is not null && IsIdle(row) ? BootScripts.GoOn
            : BootScripts.Run(Boot, Path.GetFileName(Starter().Folder.TrimEnd('/')), Station);
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

    /// <summary>Runs until it is ended; at once where machines do not start from the network.</summary>
    public async Task RunAsync(CancellationToken cancellation)
    {
        if (Boot.Mode == BootMode.Off)
            return;
        var files = KeepFilesAsync(cancellation);
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
    }

    private async Task KeepFilesAsync(CancellationToken cancellation)
    {
        var written = "";
        while (!cancellation.IsCancellationRequested)
        {
            try
            {
                var starter = Starter();
                var idle = (await machines.AllAsync(cancellation).ConfigureAwait(false)).Where(IsIdle)
                    .SelectMany(r => r.Document.Identity.Addresses)
                        .Where(a => a.Length == 17 && a.All(c => char.IsAsciiHexDigit(c) || c == ':'))
                    .Select(a => a.ToLowerInvariant());
                var grub = BootScripts.Grub(Boot, Station, idle);
                var state = $"{starter.Folder} {starter.Manifest.Files.Count} {starter.Manifest.Version} {grub}";
                if (state != written)
                {
                    Put(starter, grub);
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

    private void Put(Starter starter, string grub)
    {
        Directory.CreateDirectory(Path.Combine(Tftp, "grub"));
        foreach (var loader in starter.Manifest.Loaders)
            Replace(Path.Combine(starter.Folder, loader), Path.Combine(Tftp, loader));
        // Links would lead out of the folder that is served; a copy is whole before it has the name.
        Directory.CreateDirectory(Path.Combine(Tftp, "starter"));
        foreach (var name in (string[])[StarterManifest.KernelFile, StarterManifest.InitialFile])
            Replace(Path.Combine(starter.Folder, name), Path.Combine(Tftp, "starter", name));
        var scratch = Path.Combine(Tftp, "grub", "grub.cfg.new");
        File.WriteAllText(scratch, grub);
        File.Move(scratch, Path.Combine(Tftp, "grub", "grub.cfg"), overwrite: true);
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
        using var process = Process.Start(new ProcessStartInfo(program,
            ["--keep-in-foreground", $"--conf-file={file}", "--log-facility=-", $"--user={Environment.UserName}"])
        {
            RedirectStandardError = true,
            RedirectStandardOutput = true,
        })!;
        process.ErrorDataReceived += (_, line) => Tell(line.Data);
        process.OutputDataReceived += (_, line) => Tell(line.Data);
        process.BeginErrorReadLine();
        process.BeginOutputReadLine();
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
        if (!string.IsNullOrEmpty(line))
            BootLog.Said(log, line);
    }
}
