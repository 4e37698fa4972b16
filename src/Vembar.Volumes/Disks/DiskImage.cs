using System.Diagnostics;
using System.Text.Json;
using Vembar.Common;
using Vembar.Native;

namespace Vembar.Volumes.Disks;

/// <summary>
/// A disk image or block device. Raw ones are opened as they are; the others are handed out by qemu-nbd(8) on a Unix
/// socket in a folder of our own, without root and without a device of the kernel.
/// </summary>
public sealed class DiskImage : IDisposable
{
    private readonly Process? _server;
    private readonly string? _folder;
    private readonly NbdDevice? _keeper;
    private readonly bool _write;
    private readonly Microsoft.Win32.SafeHandles.SafeFileHandle? _claim;

    private readonly IDifferencingMap? _map;
    private readonly IBlockDevice? _mapped;
    private readonly DiskImage? _parent;

    private readonly IReadOnlyList<(long Start, long Length)> _missing = [];

    private DiskImage(string path, DiskFormat format, bool write, bool acceptDamaged = false, int depth = 0)
    {
        Path = path;
        Format = format;
        _write = write;
        var declared = 0L;
        if (format == DiskFormat.Raw && !acceptDamaged && !write)
            ContainerCheck.DemandRaw(path);
        else if (format != DiskFormat.Raw)
            (declared, _missing) = ContainerCheck.Demand(path, format, acceptDamaged && !write);
        if (format is DiskFormat.Vhd or DiskFormat.Vhdx)
        {
            // The programs that serve disk images read what is in the parent of these as zeros, or not at all.
            _mapped = FileDevice.Open(path, write: false);
            try
            {
                _map = format == DiskFormat.Vhd ? VhdDifferencing.TryOpen(_mapped) : VhdxDifferencing.TryOpen(_mapped);
                if (_map is not null)
                {
                    if (write)
                        throw VembarException.Input("disk-has-parent",
                            $"the disk image '{path}' holds only what differs from its parent, and is not written to",
                            "Join it with its parent first (merge the checkpoint).");
                    _parent = OpenParent(path, format, _map, acceptDamaged, depth);
                    Length = _map.Length;
                    return;
                }
            }
            catch
            {
                _mapped.Dispose();
                throw;
            }
            _mapped.Dispose();
        }
        if (format == DiskFormat.Raw)
        {
            if (write)
                _claim = Claim(path);
            using var device = FileDevice.Open(path, write: false);
            Length = device.Length;
            return;
        }
        _folder = Directory.CreateTempSubdirectory("vembar-disk-").FullName;
        try
        {
            _server = Start();
            // The server ends with its last connection, so that nothing is left when this process is killed.
            _keeper = FirstConnection(_server);
            Length = _keeper.Length;
            const int Sector = 512;
            if (Length < declared / Sector * Sector)
                throw VembarException.Input("bad-disk-image", $"cannot read the disk image '{path}': qemu-nbd serves {Length} of its "
                    + $"{declared} bytes", "Convert it to another format with the program that wrote it.");
        }
        catch
        {
            Dispose();
            throw;
        }
    }

    /// <summary>Keeps others away from a disk that is written; the programs that serve other formats do so themselves.</summary>
    /// <exception cref="VembarException">Somebody else uses it.</exception>
    private static Microsoft.Win32.SafeHandles.SafeFileHandle Claim(string path)
    {
        try
        {
            return Posix.Claim(path) ?? throw VembarException.Environment("disk-in-use",
                $"the disk '{path}' is in use: another program, or this machine itself, has it open for writing",
                "Shut the virtual machine down, or unmount it first; and make sure that it is the disk you mean.");
        }
        catch (Exception failure) when (failure is not VembarException
            && VembarException.From(failure, "write the disk", path) is { } error)
        {
            throw error;
        }
    }

    /// <summary>Opens a disk image or block device.</summary>
    /// <param name="path">The file or device.</param>
    /// <param name="write">Whether it is to be written; without it the image's file is not changed by a bit.</param>
    /// <exception cref="VembarException">It is not there, cannot be read, is of a kind that is not known, or the program for it is
    /// missing.</exception>
    /// <param name="acceptDamaged">Whether an image that is cut short or was not closed properly is read as far as it is there; reading
    /// bytes that are missing from it is an error.</param>
    public static DiskImage Open(string path, bool write = false, bool acceptDamaged = false) =>
        new(path, FormatOf(path), write, acceptDamaged);

    /// <summary>What should be known of an image that is read although it is damaged.</summary>
    public IReadOnlyList<string> Warnings => _missing.Count == 0 ? []
        : [$"'{Path}' is cut short: {_missing.Sum(m => m.Length) >> 20} MiB of the disk are missing"];

    /// <summary>Makes an empty image.</summary>
    /// <param name="path">Its path; nothing may be there.</param>
    /// <param name="format">How it is to be kept.</param>
    /// <param name="length">The disk's length in bytes.</param>
    /// <param name="made">Called once the file is there and ours.</param>
    /// <exception cref="VembarException">It cannot be made.</exception>
    public static DiskImage Create(string path, DiskFormat format, long length, Action? made = null)
    {
        try
        {
            // Whoever makes the name has it; the programs for other formats would write over what is there.
            using var file = Posix.OpenFile(path, write: true, createNew: true);
            made?.Invoke();
            if (format == DiskFormat.Raw)
                Posix.SetLength(file, length);
        }
        catch (NativeException failure) when (failure.Errno == Errno.Exists)
        {
            throw VembarException.Input("target-exists", $"the target '{path}' is there already", "Name a file that is not there.");
        }
        catch (Exception failure) when (VembarException.From(failure, "make the disk image", path) is { } error)
        {
            throw error;
        }
        if (format != DiskFormat.Raw)
            SystemTools.Run("qemu-img", "qemu-utils", ["create", "-q", "-f", Name(format), path,
                length.ToString(System.Globalization.CultureInfo.InvariantCulture)], $"make the disk image '{path}'");
        return new DiskImage(path, format, write: true);
    }

    /// <summary>The image's path.</summary>
    public string Path { get; }

    /// <summary>How it is kept.</summary>
    public DiskFormat Format { get; }

    /// <summary>The disk's length in bytes.</summary>
    public long Length { get; }

    /// <summary>Bytes of a sector: what a block device says, 512 for an image.</summary>
    public int SectorSize
    {
        get
        {
            const int Usual = 512, Large = 4096;
            var real = File.ResolveLinkTarget(Path, returnFinalTarget: true)?.FullName ?? System.IO.Path.GetFullPath(Path);
            var said = $"/sys/class/block/{System.IO.Path.GetFileName(real)}/queue/logical_block_size";
            return Format == DiskFormat.Raw && real.StartsWith("/dev/", StringComparison.Ordinal) && File.Exists(said)
                && File.ReadAllText(said).Trim() == "4096" ? Large : Usual;
        }
    }

    // Checkpoints of checkpoints; more are a circle or nobody's doing.
    private static DiskImage OpenParent(string path, DiskFormat format, IDifferencingMap map, bool acceptDamaged, int depth)
    {
        const int Deepest = 64;
        var said = map.ParentPaths.Count > 0 ? map.ParentPaths[0] : "a disk that it does not name";
        if (depth >= Deepest)
            throw VembarException.Input("disk-circle", $"the disk image '{path}' stands on more than {Deepest} others",
                "Join some of them.");
        var folder = System.IO.Path.GetDirectoryName(System.IO.Path.GetFullPath(path))!;
        var others = new List<string>();
        foreach (var candidate in map.ParentPaths.SelectMany(p => Candidates(folder, p)).Distinct().Where(File.Exists))
        {
            using (var file = FileDevice.Open(candidate, write: false))
            {
                if ((format == DiskFormat.Vhd ? VhdDifferencing.IdOf(file) : VhdxDifferencing.IdOf(file)) != map.ParentId)
                {
                    others.Add($"'{candidate}' is another disk, or was changed since");
                    continue;
                }
            }
            return new DiskImage(candidate, format, write: false, acceptDamaged, depth + 1);
        }
        throw VembarException.Input("parent-missing",
            $"the disk image '{path}' holds only what differs from its parent '{said}', and that "
            + $"{(others.Count > 0 ? "was not found" : "is not beside it")}",
            "Put the parent beside it, or join both into one image (merge the checkpoint).", others);
    }

    // A path of Windows from where the disk is; else a file of that name beside it.
    private static IEnumerable<string> Candidates(string folder, string said)
    {
        // No name of a file has one, and no call takes it.
        if (said.Contains('\0', StringComparison.Ordinal))
            yield break;
        var parts = said.Split('\\', '/');
        if (said.StartsWith('.') || parts.Length == 1)
            yield return System.IO.Path.GetFullPath(System.IO.Path.Combine(folder, string.Join('/', parts)));
        yield return System.IO.Path.Combine(folder, parts[^1]);
    }

    private string Socket => System.IO.Path.Combine(_folder!, "disk");

    private static string Name(DiskFormat format) =>
        format switch { DiskFormat.Vhd => "vpc", DiskFormat.Raw => "raw", _ => format.ToString().ToLowerInvariant() };

    /// <summary>Opens the disk once more; each has a position and a connection of its own.</summary>
    /// <exception cref="VembarException">It cannot be opened.</exception>
    public IBlockDevice OpenDevice()
    {
#pragma warning disable CA2000 // owned by what is returned
        var device = OpenServed();
#pragma warning restore CA2000
        // What a differencing image lacks is in its own file, and is noticed there.
        return _missing.Count > 0 && _map is null ? new MissingPartsDevice(device, _missing) : device;
    }

    private IBlockDevice OpenServed()
    {
        const int ReadPages = 256, WritePages = 1024;
        if (_map is not null)
        {
#pragma warning disable CA2000 // owned by what is returned
            var file = FileDevice.Open(Path, write: false);
            try
            {
                return new DifferencingDevice(_map, file, _parent!.OpenDevice());
            }
            catch
            {
                file.Dispose();
                throw;
            }
#pragma warning restore CA2000
        }
        return Format == DiskFormat.Raw ? FileDevice.Open(Path, _write)
            : new CachedDevice(NbdDevice.Connect(Socket, Path, _write), _write ? WritePages : ReadPages);
    }

    /// <summary>Tells the format from the file's own marks, never from its name.</summary>
    /// <exception cref="VembarException">It cannot be read, or is empty.</exception>
    public static DiskFormat FormatOf(string path)
    {
        using var device = FileDevice.Open(path, write: false);
        const int SectorSize = 512;
        Span<byte> head = stackalloc byte[SectorSize];
        try
        {
            var got = device.Read(head, 0);
            if (device.Length == 0)
                throw VembarException.Input("not-a-disk", $"'{path}' is empty", "Name a disk image, a block device or a folder.");
            head = head[..got];
            if (head.StartsWith("vhdxfile"u8))
                return DiskFormat.Vhdx;
            if (head.StartsWith((ReadOnlySpan<byte>)[(byte)'Q', (byte)'F', (byte)'I', 0xFB]))
                return DiskFormat.Qcow2;
            if (head.StartsWith("KDMV"u8) || head.StartsWith("COWD"u8) || head.StartsWith("# Disk DescriptorFile"u8))
                return DiskFormat.Vmdk;
            if (head.StartsWith("conectix"u8))
                return DiskFormat.Vhd;
            if (head.Length > 68 && head[64..68].SequenceEqual((ReadOnlySpan<byte>)[0x7F, 0x10, 0xDA, 0xBE]))
                return DiskFormat.Vdi;
            // A VHD of fixed size has its mark at the end alone.
            Span<byte> tail = stackalloc byte[SectorSize];
            return device.Length > SectorSize && device.Read(tail, device.Length - SectorSize) == SectorSize
                && tail.StartsWith("conectix"u8) ? DiskFormat.Vhd : DiskFormat.Raw;
        }
        catch (Exception failure) when (VembarException.From(failure, "read", path) is { } error)
        {
            throw error;
        }
    }

    private Process Start()
    {
        var arguments = new List<string> { $"--socket={Socket}", "--shared=0" };
        if (!_write)
            arguments.Add("--read-only");
        if (Format != DiskFormat.Vhd)
            arguments.Add($"--format={Name(Format)}");
        // An option's syntax in the file's name would be taken as one.
        arguments.Add("--");
        arguments.Add(Format == DiskFormat.Vhd ? VhdNode() : System.IO.Path.GetFullPath(Path));
        var doing = $"open the disk image '{Path}'";
        // In a session of its own: an interruption at the terminal is for us, and the server is needed to end in order.
        return SystemTools.Start("setsid", "util-linux", [SystemTools.Find("qemu-nbd", "qemu-utils", doing), .. arguments], doing);
    }

    // The size in the footer counts: QEMU takes it from the geometry for makers that it does not know, which is up to 2 MiB too short.
    private string VhdNode() => string.Concat("json:{\"driver\":\"vpc\",\"force_size_calc\":\"current_size\",\"file\":{\"driver\":\"file\","
        + "\"filename\":\"", JsonEncodedText.Encode(System.IO.Path.GetFullPath(Path)).ToString(), "\"}}");

    // The socket may be there before the image is opened, and gone again when that fails.
    private NbdDevice FirstConnection(Process server)
    {
        const int Seconds = 30;
        var error = server.StandardError.ReadToEndAsync();
        for (var clock = Stopwatch.StartNew(); ; Thread.Sleep(5))
        {
            if (File.Exists(Socket))
            {
                try
                {
                    return NbdDevice.Connect(Socket, Path, _write);
                }
                catch (VembarException problem) when (problem.Code == "disk-server" && clock.Elapsed < TimeSpan.FromSeconds(Seconds))
                {
                    // It is not listening yet, or ends; the latter is seen below.
                    server.WaitForExit(20);
                }
            }
            if (server.HasExited)
                throw Refused(error.Result);
            if (clock.Elapsed > TimeSpan.FromSeconds(Seconds))
            {
                server.Kill();
                throw VembarException.Environment("disk-server", $"'{Path}': qemu-nbd did not begin to serve it within {Seconds} seconds");
            }
        }
    }

    private VembarException Refused(string said)
    {
        // What is wrong comes first; advice may follow.
        var line = said.Split('\n', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries).FirstOrDefault()
            ?? "it said nothing";
        const string Prefix = "qemu-nbd: ";
        line = line.StartsWith(Prefix, StringComparison.Ordinal) ? line[Prefix.Length..] : line;
        if (line.IndexOf("\"}}': ", StringComparison.Ordinal) is >= 0 and var end)
            line = line[(end + "\"}}': ".Length)..];
        bool Says(string words) => said.Contains(words, StringComparison.OrdinalIgnoreCase);
        if (Says("another process") || Says("\" lock"))
            return VembarException.Environment("disk-in-use", $"the disk image '{Path}' is in use by another program",
                "Shut the virtual machine down first.");
        if (Says("backing file"))
            return VembarException.Input("backing-file-missing",
                $"the disk image '{Path}' stands on another one that cannot be opened: {line}",
                "Put that file where the image names it, or join both into one image.");
        if (Format == DiskFormat.Vhdx && (Says("replay") || Says("a log")))
            return VembarException.Input("disk-not-closed",
                $"the disk image '{Path}' was not closed properly: changes in its log are not in their places yet",
                "Let the program that wrote it open and close it once.");
        return VembarException.Input("bad-disk-image", $"the disk image '{Path}' ({Name(Format)}) cannot be opened: {line}",
            "It may be cut short or damaged; take it from another copy.");
    }

    /// <summary>Ends the writing of an image: its server has written all that it had, and said so.</summary>
    /// <exception cref="VembarException">It ended otherwise; what was written is not to be relied on.</exception>
    public void Finish()
    {
        const int Seconds = 600;
        if (_server is null || !_write)
            return;
        _keeper?.Dispose();
        if (!_server.WaitForExit(Seconds * 1000))
            throw VembarException.Environment("disk-server", $"'{Path}': qemu-nbd did not finish writing it within {Seconds} seconds",
                "Look whether the disk that it is on works, and run it again.");
        if (_server.ExitCode != 0)
            throw VembarException.Environment("disk-server", $"'{Path}': qemu-nbd ended before all was written ({_server.ExitCode})",
                "Run it again.");
    }

    /// <summary>Closes it.</summary>
    public void Dispose()
    {
        if (_claim is not null)
            Posix.Unclaim(_claim);
        _parent?.Dispose();
        _mapped?.Dispose();
        _keeper?.Dispose();
        if (_server is not null)
        {
            if (!_server.WaitForExit(_keeper is null ? 0 : 10_000))
                _server.Kill();
            _server.Dispose();
        }
        if (_folder is not null)
            Directory.Delete(_folder, recursive: true);
    }
}
