using System.Diagnostics;
using System.Globalization;
using System.Runtime.InteropServices;
using Vembar.Common;
using Vembar.Native.Helpers;
using Vembar.Volumes.Disks;
using Vembar.Volumes.Targets;

namespace Vembar.Volumes.Machines;

/// <summary>A virtual machine (QEMU, with KVM where it is to be had) that runs until it switches itself off.</summary>
public static class VirtualMachine
{
    private const string Program = "qemu-system-x86_64", Package = "qemu-system-x86", Doing = "start the copy";
    private const string FirmwareFolder = "/usr/share/OVMF";
    private const string FilesLabel = "VEMBAR";
    private const long FilesLeast = 48L << 20;
    private static readonly TimeSpan s_look = TimeSpan.FromMilliseconds(200), s_pictures = TimeSpan.FromMinutes(1),
        s_goodbye = TimeSpan.FromSeconds(60);

    private static readonly Lazy<bool> s_isFast = new(MachineProbe.Run);

    /// <summary>Whether the processor runs the machine itself; else it is emulated, which is many times slower.</summary>
    public static bool IsFast => s_isFast.Value;

    /// <summary>Makes a copy of a disk that holds only what will be changed.</summary>
    /// <param name="disk">The disk; it is only read, and has to stay as it is.</param>
    /// <param name="overlay">The copy, QCOW2.</param>
    /// <exception cref="VembarException">It cannot be made.</exception>
    public static void Overlay(string disk, string overlay)
    {
        using var image = DiskImage.Open(disk, write: false);
        // The disk was opened and checked here; nothing opens what it names.
        SystemTools.Run("qemu-img", "qemu-utils", ["create", "-q", "-u", "-f", "qcow2", "-F", ImageLayer.DriverOf(image.Format), "-b",
            Path.GetFullPath(disk), Path.GetFullPath(overlay), image.Length.ToString(CultureInfo.InvariantCulture)],
            "make a copy of the disk");
    }

    /// <summary>How the copy of a disk is opened, which stands on the disk.</summary>
    /// <param name="disk">The disk.</param>
    public static DiskReading ReadingOf(string disk) => new(ChainFolders: [Path.GetFullPath(disk),
        Path.GetDirectoryName(Path.GetFullPath(disk))!]);

    /// <summary>Runs a machine until it switches itself off.</summary>
    /// <param name="disk">Its disk, QCOW2.</param>
    /// <param name="reading">How that is opened.</param>
    /// <param name="folder">Where its serial line, its screens and its firmware's variables go.</param>
    /// <param name="options">The machine.</param>
    /// <param name="limit">How long it may take.</param>
    /// <param name="seen">Told how long it runs.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <returns>How long it ran.</returns>
    /// <exception cref="VembarException">It cannot be started, or did not switch itself off in time.</exception>
    /// <exception cref="OperationCanceledException">It was ended.</exception>
    public static async Task<TimeSpan> RunAsync(string disk, DiskReading reading, string folder, VirtualMachineOptions options,
        TimeSpan limit, Action<TimeSpan> seen, CancellationToken cancellation)
    {
        Directory.CreateDirectory(folder);
        const int MonitorNumber = 3;
        var (listening, place) = PrivateSocket.Listen();
        using var monitorPlace = place;
#pragma warning disable CA2000 // disposed of by its owner
        using var chain = ImageChain.Open(FileDevice.Open(disk, write: false), DiskFormat.Qcow2, reading);
#pragma warning restore CA2000
        var files = new Dictionary<int, SafeHandle>();
        var graph = chain.Graph(write: true, files);
        files[MonitorNumber] = listening;
        using var process = Started(Arguments(graph, folder, MonitorNumber, options), files, listening);
        var error = process.Error.ReadToEndAsync(CancellationToken.None);
        _ = process.Output.ReadToEndAsync(CancellationToken.None);
        try
        {
            var monitor = await MachineMonitor.ConnectAsync(PrivateSocket.PathOf(place), () => !process.HasExited,
                cancellation).ConfigureAwait(false);
            if (monitor is null)
            {
                await process.WaitForExitAsync(cancellation).ConfigureAwait(false);
                throw NotStarted((await error.ConfigureAwait(false)).Trim());
            }
            await using (monitor.ConfigureAwait(false))
            {
                var time = await WaitAsync(process, monitor, folder, limit, seen, cancellation).ConfigureAwait(false);
                // What is wrong with its devices it says when it was begun to be spoken with.
                return process.ExitCode == 0 ? time : throw NotStarted((await error.ConfigureAwait(false)).Trim());
            }
        }
        finally
        {
            if (!process.HasExited)
                process.Kill();
            await process.WaitForExitAsync(CancellationToken.None).ConfigureAwait(false);
        }
    }

    // Only the machine listens then: one that ended is noticed.
    private static HelperProcess Started(List<string> arguments, Dictionary<int, SafeHandle> files, SafeHandle listening)
    {
        using (listening)
            return SystemTools.Start(Program, Package, arguments, Doing, files);
    }

    private static VembarException NotStarted(string said) => VembarException.Environment("machine-failed",
        $"the virtual machine did not start: {(said.Length > 0 ? said.Split('\n')[^1] : "it ended at once")}",
        said.Contains("lock", StringComparison.OrdinalIgnoreCase) ? "The disk is in use by another machine: shut that down first." : "");

    private static async Task<TimeSpan> WaitAsync(HelperProcess process, MachineMonitor monitor, string folder, TimeSpan limit,
        Action<TimeSpan> seen, CancellationToken cancellation)
    {
        var clock = Stopwatch.StartNew();
        var pictures = 0;
        while (!process.HasExited)
        {
            seen(clock.Elapsed);
            if (clock.Elapsed > s_pictures * pictures)
                await monitor.PictureAsync(Path.Combine(folder, string.Create(CultureInfo.InvariantCulture,
                    $"screen-{pictures++:000}.png")))
                    .ConfigureAwait(false);
            if (clock.Elapsed > limit)
            {
                await monitor.PictureAsync(Path.Combine(folder, "screen-last.png")).ConfigureAwait(false);
                await monitor.PressPowerAsync().ConfigureAwait(false);
                var goodbye = clock.Elapsed + (limit < s_goodbye ? limit : s_goodbye);
                while (!process.HasExited && clock.Elapsed < goodbye)
                    await Task.Delay(s_look, cancellation).ConfigureAwait(false);
                throw VembarException.Environment("machine-late", string.Create(CultureInfo.InvariantCulture,
                    $"the copy did not switch itself off within {Minutes(limit)}"),
                    $"What it showed last is in '{Path.Combine(folder, "screen-last.png")}', what it said in "
                    + $"'{Path.Combine(folder, "serial.log")}'.");
            }
            await Task.WhenAny(process.WaitForExitAsync(cancellation), Task.Delay(s_look, cancellation)).ConfigureAwait(false);
            cancellation.ThrowIfCancellationRequested();
        }
        if (monitor.Ended is "guest-panic" or "host-error" or "host-signal")
            throw VembarException.Environment("machine-failed", string.Create(CultureInfo.InvariantCulture,
                $"the virtual machine ended after {Minutes(clock.Elapsed)} without switching itself off "
                + $"({monitor.Ended})"),
                $"What it said is in '{Path.Combine(folder, "serial.log")}'.");
        return clock.Elapsed;
    }

    private static string Minutes(TimeSpan time) => time.TotalMinutes < 2
        ? string.Create(CultureInfo.InvariantCulture, $"{time.TotalSeconds:0} s")
        : string.Create(CultureInfo.InvariantCulture, $"{time.TotalMinutes:0} min");

    // A comma would end a value.
    private static string Q(string path) => path.Replace(",", ",,", StringComparison.Ordinal);

    private static List<string> Arguments(string graph, string folder, int monitor, VirtualMachineOptions options)
    {
        var isSecure = options.Firmware == MachineFirmware.SecureBoot;
        List<string> arguments =
        [
            // What emulates it may start no other program.
            "-sandbox", "on,obsolete=deny,elevateprivileges=deny,spawn=deny",
            "-accel", !options.IsEmulated && IsFast ? "kvm" : "tcg,thread=multi", "-cpu", "max", "-M",
                $"q35,smm={(isSecure ? "on" : "off")}",
            "-m", string.Create(CultureInfo.InvariantCulture, $"{options.Memory >> 20}"),
            "-smp", options.Processors.ToString(CultureInfo.InvariantCulture), "-nodefaults", "-display", "none", "-vga", "std",
            "-rtc", "base=utc", "-chardev",
            string.Create(CultureInfo.InvariantCulture, $"socket,id=monitor,fd={monitor},server=on,wait=off"), "-mon",
            "chardev=monitor,mode=control", "-serial", $"file:{Q(Path.Combine(folder, "serial.log"))}",
            "-device", "qemu-xhci", "-device", "usb-tablet",
            // What Windows has drivers for from the beginning.
            "-drive", $"if=none,id=disk,file={Q("json:" + graph)},discard=unmap", "-device", "ide-hd,drive=disk,bus=ide.0,bootindex=2",
            "-nic", options.HasNetwork ? "user,model=e1000e" : "none",
        ];
        if (options.Medium is { } medium)
            arguments.AddRange(["-drive", $"if=none,id=medium,file={Q(medium)},format=raw,readonly=on,media=cdrom", "-device",
                "ide-cd,drive=medium,bus=ide.1,bootindex=1"]);
        if (Files(folder, options) is { } files)
            arguments.AddRange(["-drive", $"if=none,id=files,file={Q(files)},format=raw", "-device",
                "usb-storage,drive=files,removable=on"]);
        if (options.Firmware == MachineFirmware.Bios)
            return arguments;
        var (code, variables) = isSecure ? ("OVMF_CODE_4M.ms.fd", "OVMF_VARS_4M.ms.fd") : ("OVMF_CODE_4M.fd", "OVMF_VARS_4M.fd");
        if (!File.Exists(Path.Combine(FirmwareFolder, code)))
            throw VembarException.Environment("program-missing", $"could not {Doing}: there is no '{Path.Combine(FirmwareFolder, code)}'",
                "Install it (Debian: ovmf).");
        var own = Path.Combine(folder, "variables.fd");
        File.Copy(Path.Combine(FirmwareFolder, variables), own, overwrite: true);
        if (isSecure)
            arguments.AddRange(["-global", "driver=cfi.pflash01,property=secure,value=on"]);
        arguments.AddRange(["-drive", $"if=pflash,format=raw,readonly=on,file={Path.Combine(FirmwareFolder, code)}", "-drive",
            $"if=pflash,format=raw,file={Q(own)}"]);
        return arguments;
    }

    // A small removable disk: Windows looks for an answer file at the root of each.
    private static string? Files(string folder, VirtualMachineOptions options)
    {
        const int Sector = 512;
        if (options.Files.Count == 0 && options.Answers is null)
            return null;
        var gathered = Path.Combine(folder, "files");
        if (Directory.Exists(gathered))
            Directory.Delete(gathered, recursive: true);
        Directory.CreateDirectory(gathered);
        foreach (var path in options.Files)
        {
            var whole = Path.GetFullPath(path);
            if (Directory.Exists(whole))
                CopyFolder(new DirectoryInfo(whole), gathered);
            else
                File.Copy(whole, Path.Combine(gathered, Path.GetFileName(whole)), overwrite: true);
        }
        if (options.Answers is { } answers)
            // What an install that is there looks for at the root of a removable disk.
            File.Copy(answers, Path.Combine(gathered, "unattend.xml"), overwrite: true);
        var bytes = new DirectoryInfo(gathered).EnumerateFiles("*", SearchOption.AllDirectories).Sum(f => f.Length);
        var image = Path.Combine(folder, "files.img");
        var length = Math.Max(FilesLeast, (bytes + bytes / 8 + (16 << 20)) >> 20 << 20);
        File.Delete(image);
        Formatting.Fat(image, length, 0, Sector, FilesLabel, gathered);
        Directory.Delete(gathered, recursive: true);
        return image;
    }

    private static void CopyFolder(DirectoryInfo from, string to)
    {
        Directory.CreateDirectory(to);
        foreach (var entry in from.EnumerateFileSystemInfos())
        {
            // What a link leads to is not ours to hand out.
            if (entry.LinkTarget is not null)
                continue;
            var target = Path.Combine(to, entry.Name);
            if (entry is DirectoryInfo folder)
                CopyFolder(folder, target);
            else
                File.Copy(entry.FullName, target, overwrite: true);
        }
    }
}
