using System.Buffers.Binary;
using Vembar.Common;
using Vembar.Volumes.Disks;
using Vembar.Windows.Registry;

namespace Vembar.Windows.Install;

/// <summary>
/// The boot configuration store, a registry hive. Objects and elements by number: Microsoft's "BCD WMI provider reference"
/// (BcdBootMgrElementTypes, BcdLibraryElementTypes, BcdOSLoaderElementTypes). How a device element names a partition is
/// described by no vendor; the layout here is what open-source tools that read and write such stores agree on.
/// </summary>
internal static class BootStore
{
    private const string Manager = "{9dea862c-5cdd-4e70-acc1-f32b344d4795}";
    private const uint ManagerType = 0x10100002, LoaderType = 0x10200003;
    private const string Device = "11000001", ApplicationPath = "12000002", Description = "12000004", Locale = "12000005";
    private const string Default = "23000003", DisplayOrder = "24000001", Timeout = "25000004";
    private const string SystemDevice = "21000001", SystemRoot = "22000002", DetectHal = "26000010";
    private const int TimeoutSeconds = 30;

    /// <summary>Makes the store of one machine.</summary>
    /// <param name="template">The image's template; null makes one from nothing.</param>
    /// <param name="table">The disk's partition table.</param>
    /// <param name="boot">The partition that holds the boot files.</param>
    /// <param name="windows">The partition that holds Windows.</param>
    /// <param name="folder">The name of the Windows folder.</param>
    /// <param name="product">What the entry is called.</param>
    /// <param name="locale">The language of the menu; may be empty.</param>
    /// <param name="time">The time that its keys get, UTC.</param>
    /// <exception cref="VembarException">The template is damaged.</exception>
    public static byte[] Make(byte[]? template, PartitionTable table, Partition boot, Partition windows, string folder, string product,
        string locale, DateTime time)
    {
        var hive = RegistryHive.Open(template?.ToArray() ?? RegistryHive.NewEmpty("NewStoreRoot"), write: true,
            "the template of the boot store (BCD-Template)", time);
        var description = hive.Root.Ensure("Description");
        description.SetString("KeyName", "BCD00000000");
        description.SetDword("System", 1);
        description.SetDword("TreatAsSystem", 1);
        var loader = $"{{{Guid.NewGuid():D}}}";
        var isEfi = table.Scheme == PartitionScheme.Gpt;

        var manager = Object(hive, Manager, ManagerType);
        Set(manager, Device, RegistryType.Binary, DeviceOf(table, boot));
        SetText(manager, ApplicationPath, isEfi ? @"\EFI\Microsoft\Boot\bootmgfw.efi" : @"\bootmgr");
        SetText(manager, Description, "Windows Boot Manager");
        if (locale.Length > 0)
            SetText(manager, Locale, locale);
        SetText(manager, Default, loader);
        manager.Ensure($@"Elements\{DisplayOrder}").SetStrings("Element", [loader]);
        var timeout = new byte[8];
        timeout[0] = TimeoutSeconds;
        Set(manager, Timeout, RegistryType.Binary, timeout);

        var entry = Object(hive, loader, LoaderType);
        Set(entry, Device, RegistryType.Binary, DeviceOf(table, windows));
        SetText(entry, ApplicationPath, $@"\{folder}\system32\winload.{(isEfi ? "efi" : "exe")}");
        SetText(entry, Description, product);
        if (locale.Length > 0)
            SetText(entry, Locale, locale);
        Set(entry, SystemDevice, RegistryType.Binary, DeviceOf(table, windows));
        SetText(entry, SystemRoot, $@"\{folder}");
        Set(entry, DetectHal, RegistryType.Binary, [1]);
        return hive.ToBytes();
    }

    private static RegistryKey Object(RegistryHive hive, string id, uint type)
    {
        var key = hive.Root.Ensure($@"Objects\{id}");
        key.Ensure("Description").SetDword("Type", type);
        key.Ensure("Elements");
        return key;
    }

    private static void Set(RegistryKey target, string element, RegistryType type, ReadOnlySpan<byte> bytes) =>
        target.Ensure($@"Elements\{element}").Set("Element", type, bytes);

    private static void SetText(RegistryKey target, string element, string text) =>
        target.Ensure($@"Elements\{element}").SetString("Element", text);

    // 16 bytes of options (none), then: kind 6 (a partition), flags, length of what follows the options, 0; the partition
    // (its GUID, or its first byte); 0 for a hard disk; 0 for a GPT, 1 for an MBR; the disk (its GUID or its signature).
    private static byte[] DeviceOf(PartitionTable table, Partition partition)
    {
        const int Options = 16, Length = 0x48, KindPartition = 6;
        var bytes = new byte[Options + Length];
        var device = bytes.AsSpan(Options);
        BinaryPrimitives.WriteInt32LittleEndian(device, KindPartition);
        BinaryPrimitives.WriteInt32LittleEndian(device[8..], Length);
        if (table.Scheme == PartitionScheme.Gpt)
        {
            partition.Id.TryWriteBytes(device[16..]);
            table.DiskId.TryWriteBytes(device[40..]);
        }
        else
        {
            BinaryPrimitives.WriteInt64LittleEndian(device[16..], partition.Start);
            BinaryPrimitives.WriteInt32LittleEndian(device[36..], 1);
            table.DiskId.ToByteArray().AsSpan(0, 4).CopyTo(device[40..]);
        }
        return bytes;
    }
}
