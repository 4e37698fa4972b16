using System.Buffers.Binary;
using System.Text;
using Vembar.Images.Nodes;
using Vembar.Native;
using Vembar.Volumes.Disks;
using Vembar.Volumes.Targets;

namespace Vembar.Demo;

/// <summary>
/// Puts a reference install onto a virtual disk as Windows would have it: partitions, and on NTFS security descriptors, streams,
/// junctions, short names, hard links, compressed and sparse files, object ids, extended attributes.
/// </summary>
internal sealed class ReferenceDisk
{
    private const long MiB = 1 << 20;
    private static readonly DateTime s_made = new(2026, 8, 30, 7, 15, 42, DateTimeKind.Utc);

    private readonly string _folder;
    private readonly NtfsVolume _volume;
    private readonly Dictionary<(ulong, ulong), ulong> _links = [];
    private readonly Dictionary<string, uint> _security = [];
    private readonly Dictionary<string, HashSet<string>> _shortNames = [];
    private readonly CancellationToken _cancellation;

    private ReferenceDisk(string folder, NtfsVolume volume, CancellationToken cancellation)
    {
        _folder = folder;
        _volume = volume;
        _cancellation = cancellation;
    }

    /// <summary>The partitions of the demo's disks: as Windows makes them, but small.</summary>
    private static DiskLayout Layout { get; } = new(PartitionScheme.Gpt,
    [
        new(PartitionRole.Efi, 100 * MiB, "SYSTEM"), new(PartitionRole.Reserved, 16 * MiB, ""),
        new(PartitionRole.Windows, null, "Windows"), new(PartitionRole.Recovery, 64 * MiB, "Recovery"),
    ]);

    /// <summary>Makes the disk of a reference.</summary>
    /// <param name="folder">The install.</param>
    /// <param name="bytes">About how much it holds.</param>
    /// <param name="path">The file to make.</param>
    /// <param name="format">Its format.</param>
    /// <param name="cancellation">Ends it.</param>
    public static void Make(string folder, long bytes, string path, DiskFormat format, CancellationToken cancellation)
    {
        const int Sector = 512;
        Directory.CreateDirectory(Path.GetDirectoryName(path)!);
        var scratch = Directory.CreateTempSubdirectory("vembar-demo-").FullName;
        try
        {
            // Page file and the like are only as large as they say.
            using var image = DiskImage.Create(path, format, (bytes * 3 / 2 + 640 * MiB) / MiB * MiB);
            var table = Layout.Place(image.Length, Sector);
            using var disk = image.OpenDevice();
            Partition efi = table.Partitions[0], windows = table.Partitions[2], recovery = table.Partitions[3];
            void Formatted(Partition partition, Action<string> format)
            {
                var file = Path.Combine(scratch, $"partition-{partition.Number}");
                format(file);
                Formatting.CopyTo(new SliceDevice(disk, partition.Start, partition.Length), file);
                File.Delete(file);
            }
            Formatted(efi, file => Formatting.Fat(file, efi.Length, efi.Start, Sector, "SYSTEM", Boot(folder, scratch)));
            Formatted(windows, file => Formatting.Ntfs(file, windows.Length, windows.Start, Sector, "Windows"));
            Formatted(recovery, file => Formatting.Ntfs(file, recovery.Length, recovery.Start, Sector, "Recovery"));
            table.Write(disk, default);
            using (var volume = NtfsVolume.Open(new SliceDevice(disk, windows.Start, windows.Length), write: true, keepDevice: true))
            {
                new ReferenceDisk(folder, volume, cancellation).Write();
                volume.Close();
            }
            disk.Flush();
        }
        finally
        {
            Directory.Delete(scratch, recursive: true);
        }
    }

    private static string Boot(string folder, string scratch)
    {
        var boot = Path.Combine(scratch, "efi");
        Directory.CreateDirectory(Path.Combine(boot, "EFI/Microsoft/Boot"));
        Directory.CreateDirectory(Path.Combine(boot, "EFI/Boot"));
        File.Copy(Path.Combine(folder, "Windows/Boot/EFI/bootmgfw.efi"), Path.Combine(boot, "EFI/Microsoft/Boot/bootmgfw.efi"));
        File.Copy(Path.Combine(folder, "Windows/Boot/EFI/bootmgfw.efi"), Path.Combine(boot, "EFI/Boot/bootx64.efi"));
        return boot;
    }

    private void Write()
    {
        Fill(NtfsVolume.Root, "");
        // As Windows has them: a junction from an old name, and a symbolic link.
        Reparse(NtfsVolume.Root, "Documents and Settings", MountPoint(@"\??\C:\Users", @"C:\Users"));
        var users = Find("Users");
        Reparse(users, "All Users", SymbolicLink(@"\??\C:\ProgramData", @"C:\ProgramData"));
        // Two names that differ in case, from a subsystem that tells them apart.
        var logs = Find("ProgramData/Tarn Valley/Logs");
        foreach (var name in (string[])["notes.txt", "Notes.txt"])
            Small(logs, name, $"This is {name}.\r\n");
        using var root = _volume.Open(NtfsVolume.Root, "/");
        root.SetSecurity(Descriptor("root"));
        root.SetTimes(Ticks(s_made), Ticks(DemoWorld.Epoch), Ticks(DemoWorld.Epoch), Ticks(DemoWorld.Epoch));
        root.Close();
    }

    private static long Ticks(DateTime time) => FileTime.From(time).Ticks;

    private ulong Find(string path)
    {
        var number = NtfsVolume.Root;
        foreach (var part in path.Split('/'))
        {
            using var folder = _volume.Open(number, path);
            number = folder.Find(part) ?? throw new InvalidOperationException($"'{path}' is not there");
        }
        return number & 0xFFFFFFFFFFFF;
    }

    private void Fill(ulong folder, string path)
    {
        foreach (var entry in Directory.EnumerateFileSystemEntries(Path.Combine(_folder, path)).Order(StringComparer.Ordinal))
        {
            _cancellation.ThrowIfCancellationRequested();
            var name = Path.GetFileName(entry);
            var own = path.Length == 0 ? name : $"{path}/{name}";
            if (Directory.Exists(entry))
            {
                var made = MakeFolder(folder, own, name);
                Fill(made, own);
                Settle(folder, made, own, name, Directory.GetLastWriteTimeUtc(entry));
            }
            else
                MakeFile(folder, own, name, entry);
        }
    }

    private uint SecurityOf(NtfsFile file, string path)
    {
        var kind = path.StartsWith("Windows", StringComparison.Ordinal) ? "system"
            : path.StartsWith("Users", StringComparison.Ordinal) ? "users" : "programs";
        if (_security.TryGetValue(kind, out var id))
            return id;
        file.SetSecurity(Descriptor(kind));
        return _security[kind] = file.SecurityId;
    }

    private NtfsFile Create(NtfsFile parent, string path, string name, bool isFolder)
    {
        var kind = path.StartsWith("Windows", StringComparison.Ordinal) ? "system"
            : path.StartsWith("Users", StringComparison.Ordinal) ? "users" : "programs";
        var file = _volume.Create(parent, name, isFolder, _security.GetValueOrDefault(kind), path);
        SecurityOf(file, path);
        return file;
    }

    private ulong MakeFolder(ulong parent, string path, string name)
    {
        using var at = _volume.Open(parent, path);
        using var made = Create(at, path, name, isFolder: true);
        // Help texts are compressed by the file system: what is made in the folder from here on is, too.
        const uint Compressed = 0x800;
        if (path == "Windows/Help")
            made.SetAttributes(Compressed);
        var number = made.Number;
        made.Close(at);
        return number;
    }

    private void Settle(ulong parent, ulong number, string path, string name, DateTime modified)
    {
        const uint Hidden = 0x2, System = 0x4, NotIndexed = 0x2000;
        var attributes = name[0] == '$' || name == "System Volume Information" ? Hidden | System
            : name == "ProgramData" ? Hidden | NotIndexed : 0;
        Finish(parent, number, path, name, attributes, modified);
    }

    // What comes last: setting a short name closes both, and any change after the times would change them.
    private void Finish(ulong parent, ulong number, string path, string name, uint attributes, DateTime modified)
    {
        var at = _volume.Open(parent, path);
        var file = _volume.Open(number, path);
        try
        {
            if (attributes != 0)
                file.SetAttributes(attributes);
            if (ShortNameOf(path, name) is { } shortName)
            {
                if (!file.TrySetShortNameAndClose(at, shortName))
                    throw new InvalidOperationException($"'{path}' did not take the short name '{shortName}'");
                at = _volume.Open(parent, path);
                file = _volume.Open(number, path);
            }
            file.SetTimes(Ticks(s_made), Ticks(modified), Ticks(modified.AddSeconds(1)), Ticks(DemoWorld.Epoch));
            file.Close(at);
        }
        finally
        {
            file.Dispose();
            at.Dispose();
        }
    }

    private void MakeFile(ulong parent, string path, string name, string from)
    {
        const uint Archive = 0x20, HiddenSystemArchive = 0x26;
        var stat = Posix.Stat(null, PosixName.Encode(from));
        var modified = File.GetLastWriteTimeUtc(from);
        if (_links.TryGetValue((stat.Device, stat.Inode), out var first))
        {
            using var folder = _volume.Open(parent, path);
            using var linked = _volume.Open(first, path);
            linked.Link(folder, name);
            folder.Close();
            linked.SetTimes(Ticks(s_made), Ticks(modified), Ticks(modified.AddSeconds(2)), Ticks(DemoWorld.Epoch));
            linked.Close();
            return;
        }
        ulong number;
        using (var at = _volume.Open(parent, path))
        using (var file = Create(at, path, name, isFolder: false))
        {
            number = file.Number;
            if (stat.LinkCount > 1)
                _links[(stat.Device, stat.Inode)] = number;
            using (var data = file.OpenData())
            {
                if (stat.Allocated < stat.Size && stat.Size > MiB)
                    data.SetLength(stat.Size);
                else if (stat.Size > 0)
                    data.Write(File.ReadAllBytes(from), 0);
                data.Finish();
            }
            var sum = new Filler(path).Below(100);
            // What came from elsewhere is marked so; the kernel keeps notes on some of its files.
            if (path.EndsWith(".pdf", StringComparison.Ordinal) || path.EndsWith("handbook.txt", StringComparison.Ordinal))
                Stream(file, "Zone.Identifier", "[ZoneTransfer]\r\nZoneId=3\r\n");
            if (path.EndsWith("catalogue.idx", StringComparison.Ordinal))
                Stream(file, "index", new Filler(path).Text(90_000));
            if (sum < 3 && path.EndsWith(".dll", StringComparison.Ordinal))
                file.SetExtendedAttributes(KernelNote(path));
            if (sum is 3 or 4)
                file.SetObjectId(new Filler(path).Bytes(16));
            file.Close(at);
        }
        Finish(parent, number, path, name,
            path.EndsWith("desktop.ini", StringComparison.Ordinal) || name is "pagefile.sys" or "swapfile.sys" ? HiddenSystemArchive
            : Archive, modified);
    }

    private static void Stream(NtfsFile file, string name, string text)
    {
        using var data = file.AddStream(name);
        data.Write(Encoding.UTF8.GetBytes(text), 0);
    }

    // One record as FILE_FULL_EA_INFORMATION (MS-FSCC 2.4.16).
    private static byte[] KernelNote(string path)
    {
        var name = "$KERNEL.PURGE.ESBCACHE"u8;
        var record = new byte[(8 + name.Length + 1 + 24 + 3) / 4 * 4];
        record[0] = (byte)record.Length;
        record[5] = (byte)name.Length;
        record[6] = 24;
        name.CopyTo(record.AsSpan(8));
        new Filler(path).Bytes(24).CopyTo(record, 9 + name.Length);
        return record;
    }

    private void Small(ulong parent, string name, string text)
    {
        using var at = _volume.Open(parent, name);
        using var file = _volume.Create(at, name, isFolder: false, 0, name);
        using (var data = file.OpenData())
            data.Write(Encoding.UTF8.GetBytes(text), 0);
        file.SetTimes(Ticks(s_made), Ticks(DemoWorld.Epoch), Ticks(DemoWorld.Epoch), Ticks(DemoWorld.Epoch));
        file.Close(at);
    }

    private void Reparse(ulong parent, string name, byte[] data)
    {
        const uint HiddenSystem = 0x2006;
        using var at = _volume.Open(parent, name);
        using var made = Create(at, name, name, isFolder: true);
        made.SetReparse(data);
        made.SetAttributes(HiddenSystem);
        made.SetTimes(Ticks(s_made), Ticks(s_made), Ticks(s_made), Ticks(DemoWorld.Epoch));
        made.Close(at);
    }

    // MS-FSCC 2.1.2.5.
    private static byte[] MountPoint(string target, string displayName) => ReparseData(0xA0000003, target, displayName, []);

    // MS-FSCC 2.1.2.4: flags 0 for a path from the root.
    private static byte[] SymbolicLink(string target, string displayName) => ReparseData(0xA000000C, target, displayName, [0, 0, 0, 0]);

    private static byte[] ReparseData(uint tag, string target, string displayName, byte[] flags)
    {
        byte[] first = Encoding.Unicode.GetBytes(target + "\0"), second = Encoding.Unicode.GetBytes(displayName + "\0");
        var data = new byte[8 + 8 + flags.Length + first.Length + second.Length];
        BinaryPrimitives.WriteUInt32LittleEndian(data, tag);
        BinaryPrimitives.WriteUInt16LittleEndian(data.AsSpan(4), (ushort)(data.Length - 8));
        BinaryPrimitives.WriteUInt16LittleEndian(data.AsSpan(8), 0);
        BinaryPrimitives.WriteUInt16LittleEndian(data.AsSpan(10), (ushort)(first.Length - 2));
        BinaryPrimitives.WriteUInt16LittleEndian(data.AsSpan(12), (ushort)first.Length);
        BinaryPrimitives.WriteUInt16LittleEndian(data.AsSpan(14), (ushort)(second.Length - 2));
        flags.CopyTo(data, 16);
        first.CopyTo(data, 16 + flags.Length);
        second.CopyTo(data, 16 + flags.Length + first.Length);
        return data;
    }

    // As Windows makes them: six characters, '~', a number; for the organisation's programs and the folders at the top.
    private string? ShortNameOf(string path, string name)
    {
        if (path.Contains('/') && !path.StartsWith("Program Files/", StringComparison.Ordinal)
            && !path.StartsWith("Users/", StringComparison.Ordinal))
            return null;
        var dot = name.LastIndexOf('.');
        string stem = dot > 0 ? name[..dot] : name, kind = dot > 0 ? name[(dot + 1)..] : "";
        if (stem.Length <= 8 && kind.Length <= 3 && name.All(c => char.IsAsciiLetterOrDigit(c) || c == '.'))
            return null;
        var letters = new string([.. stem.ToUpperInvariant().Where(char.IsAsciiLetterOrDigit).Take(6)]);
        var end = kind.Length > 0 ? "." + new string([.. kind.ToUpperInvariant().Where(char.IsAsciiLetterOrDigit).Take(3)]) : "";
        var folder = path.Contains('/') ? path[..path.LastIndexOf('/')] : "";
        if (!_shortNames.TryGetValue(folder, out var taken))
            _shortNames[folder] = taken = [];
        for (var number = 1; number < 10; number++)
        {
            var candidate = $"{letters}~{number}{end}";
            if (letters.Length > 0 && taken.Add(candidate))
                return candidate;
        }
        return null;
    }

    // Self-relative: administrators own it; the system and they may do all, users may read, and their own may do more.
    private static byte[] Descriptor(string kind)
    {
        byte[] Sid(params uint[] parts) => [1, (byte)parts.Length, 0, 0, 0, 0, 0, 5, .. parts.SelectMany(BitConverter.GetBytes)];
        byte[] system = Sid(18), administrators = Sid(32, 544), users = Sid(32, 545), everyone = [1, 1, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0];
        // The service that owns the files of Windows.
        var installer = Sid(80, 956008885, 3418522649, 1831038044, 1853292631, 2271478464);
        const uint All = 0x1F01FF, Read = 0x1200A9, Change = 0x1301BF;
        const byte Inherited = 3;
        var entries = new List<(byte[] Sid, uint Mask)> { (system, All), (administrators, kind == "system" ? Read : All),
            (users, kind == "users" ? Change : Read) };
        if (kind == "system")
            entries.Insert(0, (installer, All));
        if (kind == "root")
            entries.Add((everyone, Read));
        byte[] list = [.. entries.SelectMany(e => (byte[])[0, Inherited, (byte)(8 + e.Sid.Length), 0, .. BitConverter.GetBytes(e.Mask),
            .. e.Sid])];
        var owner = kind == "system" ? installer : administrators;
        const int Head = 20, ListHead = 8;
        var groupAt = Head + owner.Length;
        var listAt = groupAt + system.Length;
        return
        [
            1, 0, 0x04, 0x80, .. BitConverter.GetBytes(Head), .. BitConverter.GetBytes(groupAt), .. BitConverter.GetBytes(0),
            .. BitConverter.GetBytes(listAt),
            .. owner, .. system,
            2, 0, .. BitConverter.GetBytes((ushort)(ListHead + list.Length)), .. BitConverter.GetBytes((ushort)entries.Count), 0, 0,
            .. list,
        ];
    }
}
