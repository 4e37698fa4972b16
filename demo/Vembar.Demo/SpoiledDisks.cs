using System.Buffers.Binary;
using System.Diagnostics;
using System.Text;
using Vembar.Native;
using Vembar.Volumes.Disks;
using Vembar.Windows.Registry;

namespace Vembar.Demo;

/// <summary>References that are not fit to be captured, each for one reason: thin disks that stand on the good one.</summary>
internal static class SpoiledDisks
{
    private const string Config = "Windows/System32/config/";

    /// <summary>Their names, and the check that finds each.</summary>
    public static IReadOnlyList<(string Name, string Check)> All { get; } =
    [
        ("not-generalized", "not-generalized"), ("cut-off", "generalize-unfinished"), ("hibernated", "hibernated"),
        ("updates-pending", "updates-pending"), ("password-left", "answer-file-password"),
        ("in-domain", "domain-member"), ("logon-stored", "stored-password"), ("not-flushed", "registry-not-flushed"),
        ("not-closed", "volume-not-closed"),
    ];

    /// <summary>Makes them.</summary>
    /// <param name="good">The good disk.</param>
    /// <param name="folder">Where.</param>
    public static void Make(string good, string folder)
    {
        Directory.CreateDirectory(folder);
        // What a disk image names is opened beside it alone.
        var standsOn = Path.Combine(folder, Path.GetFileName(good));
        if (Posix.TryHardLink(null, PosixName.Encode(good), null, PosixName.Encode(standsOn)) != 0)
            File.Copy(good, standsOn, overwrite: true);
        foreach (var (name, _) in All)
        {
            var path = Path.Combine(folder, $"{name}.qcow2");
            using (var create =
                Process.Start(new ProcessStartInfo("qemu-img",
                ["create", "-q", "-f", "qcow2", "-F", "vhdx", "-b", Path.GetFileName(good), path])
                {
                    RedirectStandardError = true,
                })!)
            {
                create.WaitForExit();
                if (create.ExitCode != 0)
                    throw new IOException($"qemu-img: {create.StandardError.ReadToEnd().Trim()}");
            }
            using var disk = Disk.Open(path, write: true);
            var volume = disk.Volumes.First(v => v.FileSystem.Label == "Windows");
            using (var open = NtfsVolume.Open(disk.OpenVolume(volume), write: true))
            {
                Spoil(open, name);
                open.Close();
            }
            if (name == "not-closed")
                MarkDirty(disk, volume);
        }
    }

    private static void Spoil(NtfsVolume volume, string name)
    {
        switch (name)
        {
            case "not-generalized":
                Hive(volume, "SOFTWARE",
                    hive => hive.Root.Ensure(@"Microsoft\Windows\CurrentVersion\Setup\State")
                        .SetString("ImageState", "IMAGE_STATE_COMPLETE"));
                Put(volume, "Windows/Setup/State/State.ini", "[State]\r\nImageState=IMAGE_STATE_COMPLETE\r\n"u8);
                break;
            case "cut-off":
                Hive(volume, "SYSTEM", hive => hive.Root.Ensure(@"Setup\Status\SysprepStatus").SetDword("GeneralizationState", 3));
                break;
            case "hibernated":
                Put(volume, "hiberfil.sys", [.. "HIBR"u8, .. new byte[4092]]);
                break;
            case "updates-pending":
                Hive(volume, "SOFTWARE",
                    hive => hive.Root.Ensure(@"Microsoft\Windows\CurrentVersion\Component Based Servicing\RebootPending"));
                Hive(volume, "SYSTEM",
                    hive => hive.Root.Ensure(@"ControlSet001\Control\Session Manager")
                        .SetStrings("PendingFileRenameOperations", [@"\??\C:\Windows\Temp\update.tmp", ""]));
                break;
            case "password-left":
                Put(volume, "Windows/Panther/unattend.xml", Encoding.UTF8.GetBytes(
                    "<?xml version=\"1.0\" encoding=\"utf-8\"?>\r\n<unattend xmlns=\"urn:schemas-microsoft-com:unattend\">\r\n  "
                    + "<settings pass=\"oobeSystem\">\r\n    <component name=\"Microsoft-Windows-Shell-Setup\" "
                    + "processorArchitecture=\"amd64\" publicKeyToken=\"31bf3856ad364e35\" language=\"neutral\" "
                    + "versionScope=\"nonSxS\">\r\n"
                    + "      <UserAccounts><AdministratorPassword><Value>bG9hbmRlc2s=</Value>"
                    + "<PlainText>false</PlainText></AdministratorPassword></UserAccounts>\r\n"
            + "    </component>\r\n  </settings>\r\n</unattend>\r\n"));
                break;
            case "in-domain":
                Hive(volume, "SYSTEM",
                    hive => hive.Root.Ensure(@"ControlSet001\Services\Tcpip\Parameters").SetString("Domain", "tarnvalley.example"));
                Hive(volume, "SECURITY", hive =>
                {
                    var text = Encoding.Unicode.GetBytes("TARNVALLEY");
                    hive.Root.Ensure(@"Policy\PolPrDmN")
                        .Set("", RegistryType.None, [(byte)text.Length, 0, (byte)(text.Length + 2), 0, 8, 0, 0, 0, .. text]);
                    hive.Root.Ensure(@"Policy\PolPrDmS")
                        .Set("", RegistryType.None, [1, 4, 0, 0, 0, 0, 0, 5, 21, 0, 0, 0, .. new Filler("domain").Bytes(12)]);
                });
                break;
            case "logon-stored":
                Hive(volume, "SOFTWARE", hive =>
                {
                    var logon = hive.Root.Ensure(@"Microsoft\Windows NT\CurrentVersion\Winlogon");
                    logon.SetString("AutoAdminLogon", "1");
                    logon.SetString("DefaultUserName", "desk");
                    logon.SetString("DefaultPassword", "loandesk");
                });
                break;
            case "not-flushed":
                var system = Read(volume, Config + "SYSTEM");
                BinaryPrimitives.WriteUInt32LittleEndian(system.AsSpan(4), BinaryPrimitives.ReadUInt32LittleEndian(system.AsSpan(4)) + 1);
                Hives.Seal(system);
                Put(volume, Config + "SYSTEM", system);
                break;
        }
    }

    private static void Hive(NtfsVolume volume, string name, Action<RegistryHive> change)
    {
        var hive = RegistryHive.Open(Read(volume, Config + name), write: true, name, DemoWorld.Epoch);
        change(hive);
        Put(volume, Config + name, hive.ToBytes());
    }

    private static byte[] Read(NtfsVolume volume, string path)
    {
        using var folder = Folder(volume, path);
        using var file = volume.Open(folder.Find(Path.GetFileName(path))!.Value, path);
        using var data = file.OpenData();
        var bytes = new byte[data.Length];
        data.Read(bytes, 0);
        return bytes;
    }

    private static NtfsFile Folder(NtfsVolume volume, string path)
    {
        var number = NtfsVolume.Root;
        foreach (var part in path.Split('/')[..^1])
        {
            using var at = volume.Open(number, path);
            number = at.Find(part) ?? throw new InvalidOperationException($"'{path}' is not there");
        }
        return volume.Open(number, path);
    }

    private static void Put(NtfsVolume volume, string path, ReadOnlySpan<byte> bytes)
    {
        using var folder = Folder(volume, path);
        var name = Path.GetFileName(path);
        using var file = folder.Find(name) is { } found ? volume.Open(found, path) : volume.Create(folder, name, isFolder: false, 0, path);
        using (var data = file.OpenData())
        {
            data.SetLength(0);
            data.Write(bytes, 0);
        }
        file.Close(folder);
    }

    // $Volume is the fourth record of the file table; VOLUME_INFORMATION (0x70) has the flags at the eleventh byte.
    private static void MarkDirty(Disk disk, DiskVolume volume)
    {
        using var device = disk.OpenVolume(volume);
        var boot = new byte[512];
        device.Read(boot, 0);
        var cluster = BinaryPrimitives.ReadUInt16LittleEndian(boot.AsSpan(11)) * boot[13];
        // The file table, and its mirror, which must be the same.
        long Place(int field) => BinaryPrimitives.ReadInt64LittleEndian(boot.AsSpan(field)) * cluster + 3 * 1024;
        var at = Place(48);
        var record = new byte[1024];
        device.Read(record, at);
        for (int attribute =
            BinaryPrimitives.ReadUInt16LittleEndian(record.AsSpan(20)); BinaryPrimitives.ReadUInt32LittleEndian(
            record.AsSpan(attribute)) is not uint.MaxValue and var type; attribute += BinaryPrimitives.ReadInt32LittleEndian(
            record.AsSpan(attribute + 4)))
        {
            if (type == 0x70)
                record[attribute + BinaryPrimitives.ReadUInt16LittleEndian(record.AsSpan(attribute + 20)) + 10] |= 1;
        }
        device.Write(record, at);
        device.Write(record, Place(56));
        device.Flush();
    }
}
