using Vembar.Common;
using Vembar.Native;

namespace Vembar.Volumes.Disks;

/// <summary>
/// A disk image or block device. Raw ones are opened as they are; the others are handed out by qemu-nbd(8), without root and without a
/// device of the kernel.
/// </summary>
public sealed class DiskImage : IDisposable
{
    private readonly FileDevice _file;
    private readonly DiskServer? _server;
    private readonly bool _write;
    private readonly Microsoft.Win32.SafeHandles.SafeFileHandle? _claim;

    private readonly IDifferencingMap? _map;
    private readonly DiskImage? _parent;

    private readonly IReadOnlyList<(long Start, long Length)> _missing = [];

    private DiskImage(FileDevice file, DiskFormat format, bool write, DiskReading reading, int depth = 0)
    {
        (_file, Format, _write) = (file, format, write);
        ImageChain? chain = null;
        try
        {
            if (format == DiskFormat.Raw)
            {
                if (!reading.AcceptDamaged && !write)
                    ImageChain.DemandRaw(Path);
                _claim = write ? Claim(Path) : null;
                Length = file.Length;
                return;
            }
#pragma warning disable CA2000 // disposed of by its owner
            chain = ImageChain.Open(file.OpenAgain(write: false), format, write ? reading with { AcceptDamaged = false } : reading);
#pragma warning restore CA2000
            _missing = chain.Missing;
            // The programs that serve disk images read what is in the parent of these as zeros, or not at all.
            _map = format switch
            {
                DiskFormat.Vhd => VhdDifferencing.TryOpen(file),
                DiskFormat.Vhdx => VhdxDifferencing.TryOpen(file),
                _ =>
                null
            };
            if (_map is null)
                (_server, Length) = Serve(ref chain);
            else
            {
                if (write)
                    throw VembarException.Input("disk-has-parent",
                        $"the disk image '{Path}' holds only what differs from its parent, and is not written to",
                        "Join it with its parent first (merge the checkpoint).");
                _parent = OpenParent(reading, depth);
                Length = _map.Length;
            }
        }
        catch
        {
            Dispose();
            throw;
        }
        finally
        {
            chain?.Dispose();
        }
    }

    // The server closes the chain then.
    private (DiskServer Server, long Length) Serve(ref ImageChain? chain)
    {
        const int Sector = 512;
        var declared = chain!.DiskLength;
        var server = new DiskServer(chain, Path, Format, _write);
        chain = null;
        if (server.Length >= declared / Sector * Sector)
            return (server, server.Length);
        var length = server.Length;
        server.Dispose();
        throw VembarException.Input("bad-disk-image", $"cannot read the disk image '{Path}': qemu-nbd serves {length} of its "
            + $"{declared} bytes", "Convert it to another format with the program that wrote it.");
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
    /// <param name="reading">How it is opened.</param>
    /// <exception cref="VembarException">It is not there, cannot be read, is of a kind that is not known, or the program for it is
    /// missing.</exception>
    public static DiskImage Open(string path, bool write = false, DiskReading? reading = null)
    {
#pragma warning disable CA2000 // owned by what is returned
        var file = FileDevice.Open(path, write: false);
#pragma warning restore CA2000
        try
        {
            return new DiskImage(file, FormatOf(file), write, reading ?? DiskReading.Usual);
        }
        catch
        {
            file.Dispose();
            throw;
        }
    }

    /// <summary>Compares what an image says of itself, and all that it stands on, with their files, without reading what is in
    /// it.</summary>
    /// <param name="path">The image.</param>
    /// <param name="reading">How it is opened.</param>
    /// <exception cref="VembarException">It is damaged, cut short or marked, or a file of it is not there or not allowed.</exception>
    public static void Check(string path, DiskReading reading)
    {
#pragma warning disable CA2000 // owned by what is returned
        var file = FileDevice.Open(path, write: false);
#pragma warning restore CA2000
        var format = FormatOf(file);
        if (format == DiskFormat.Raw)
            file.Dispose();
        else
            ImageChain.Open(file, format, reading).Dispose();
    }

    /// <summary>What should be known of an image that is read although it is damaged.</summary>
    public IReadOnlyList<string> Warnings => _missing.Count == 0 ? []
        : [$"'{Path}' is cut short: {_missing.Sum(m => m.Length) >> 20} MiB of the disk are missing"];

    /// <summary>Makes an empty image.</summary>
    /// <param name="path">Its path; nothing may be there.</param>
    /// <param name="format">How it is to be kept.</param>
    /// <param name="length">The disk's length in bytes.</param>
    /// <exception cref="VembarException">It cannot be made.</exception>
    public static DiskImage Create(string path, DiskFormat format, long length)
    {
        try
        {
            // Whoever makes the name has it; the programs for other formats would write over what is there.
            Posix.OpenFile(path, write: true, createNew: true).Dispose();
        }
        catch (NativeException failure) when (failure.Errno == Errno.Exists)
        {
            throw VembarException.Input("target-exists", $"the target '{path}' is there already", "Name a file that is not there.");
        }
        catch (Exception failure) when (VembarException.From(failure, "make the disk image", path) is { } error)
        {
            throw error;
        }
        return Make(path, format, length);
    }

    /// <summary>Makes an image of an empty file.</summary>
    /// <param name="path">Its path.</param>
    /// <param name="format">How it is to be kept.</param>
    /// <param name="length">The disk's length in bytes.</param>
    /// <param name="name">The file's name when it is done, where the image holds that.</param>
    /// <exception cref="VembarException">It cannot be made.</exception>
    public static DiskImage Make(string path, DiskFormat format, long length, string? name = null)
    {
        try
        {
            using var file = Posix.OpenFile(path, write: true);
            if (format == DiskFormat.Raw)
                Posix.SetLength(file, length);
        }
        catch (Exception failure) when (VembarException.From(failure, "make the disk image", path) is { } error)
        {
            throw error;
        }
        if (format != DiskFormat.Raw)
            // A path from the root: a colon in a name would be taken for a protocol.
            SystemTools.Run("qemu-img", "qemu-utils", ["create", "-q", "-f", ImageLayer.DriverOf(format), System.IO.Path.GetFullPath(path),
                length.ToString(System.Globalization.CultureInfo.InvariantCulture)], $"make the disk image '{path}'");
        if (format == DiskFormat.Vmdk && name is not null)
            VmdkLayout.RenameExtent(path, name);
#pragma warning disable CA2000 // disposed of by its owner
        return new DiskImage(FileDevice.Open(path, write: false), format, write: true, DiskReading.Usual);
#pragma warning restore CA2000
    }

    /// <summary>The image's path.</summary>
    public string Path => _file.DisplayName;

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
    private DiskImage OpenParent(DiskReading reading, int depth)
    {
        const int Deepest = 64;
        if (depth >= Deepest)
            throw VembarException.Input("disk-circle", $"the disk image '{Path}' stands on more than {Deepest} others",
                "Join some of them.");
        var names = new ChainNames(Path, reading.ChainFolders);
        var folder = System.IO.Path.GetDirectoryName(System.IO.Path.GetFullPath(Path))!;
        var others = new List<string>();
        foreach (var candidate in _map!.ParentPaths.SelectMany(p => Candidates(folder, p)).Distinct())
        {
#pragma warning disable CA2000 // disposed of by its owner
            if (names.TryOpen(candidate) is not { } file)
#pragma warning restore CA2000
                continue;
            if ((Format == DiskFormat.Vhd ? VhdDifferencing.IdOf(file) : VhdxDifferencing.IdOf(file)) == _map.ParentId)
                return new DiskImage(file, FormatOf(file), write: false, reading, depth + 1);
            file.Dispose();
            others.Add($"'{candidate}' is another disk, or was changed since");
        }
        var said = _map.ParentPaths.Count > 0 ? _map.ParentPaths[0] : "a disk that it does not name";
        var message = $"the disk image '{Path}' holds only what differs from its parent '{said}', and that "
            + $"{(others.Count > 0 ? "was not found" : "is not beside it")}";
        throw reading.ChainFolders is null || others.Count > 0 ? VembarException.Input("parent-missing", message,
            "Put the parent beside it, or join both into one image (merge the checkpoint).", others)
            : VembarException.Input("parent-missing", message, Advice.Of("allow-chain-of-parent"));
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
            var file = _file.OpenAgain(write: false);
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
        return _server is null ? _file.OpenAgain(_write) : new CachedDevice(_server.Connect(), _write ? WritePages : ReadPages);
    }

    /// <summary>Tells the format from the file's own marks, never from its name.</summary>
    /// <exception cref="VembarException">It cannot be read, or is empty.</exception>
    public static DiskFormat FormatOf(string path)
    {
        using var device = FileDevice.Open(path, write: false);
        return FormatOf(device);
    }

    internal static DiskFormat FormatOf(FileDevice device)
    {
        var path = device.DisplayName;
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

    /// <summary>Ends the writing of an image: its server has written all that it had, and said so.</summary>
    /// <exception cref="VembarException">It ended otherwise; what was written is not to be relied on.</exception>
    public void Finish() => _server?.Finish();

    /// <summary>Closes it.</summary>
    public void Dispose()
    {
        if (_claim is not null)
            Posix.Unclaim(_claim);
        _parent?.Dispose();
        _server?.Dispose();
        _file.Dispose();
    }
}
