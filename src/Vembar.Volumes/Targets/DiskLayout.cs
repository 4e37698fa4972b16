using Vembar.Common;
using Vembar.Common.Formats;
using Vembar.Volumes.Disks;
using YamlDotNet.RepresentationModel;

namespace Vembar.Volumes.Targets;

/// <summary>How a disk is to be divided. docs/disk-layout.md.</summary>
/// <param name="Scheme">GPT or MBR.</param>
/// <param name="Partitions">In their order on the disk.</param>
public sealed record DiskLayout(PartitionScheme Scheme, IReadOnlyList<LayoutPartition> Partitions)
{
    private const long MiB = 1 << 20;
    private const int MostOfMbr = 4, MostOfGpt = 128;

    /// <summary>Where partitions begin and end, in bytes.</summary>
    public const long Alignment = MiB;

    /// <summary>For machines with UEFI: EFI system, reserved, Windows, recovery at the end.</summary>
    public static DiskLayout Uefi { get; } = new(PartitionScheme.Gpt,
    [
        new(PartitionRole.Efi, 260 * MiB, "SYSTEM"), new(PartitionRole.Reserved, 16 * MiB, ""),
        new(PartitionRole.Windows, null, "Windows"), new(PartitionRole.Recovery, 600 * MiB, "Recovery"),
    ]);

    /// <summary>For machines with BIOS: the partition that is started from, then Windows.</summary>
    public static DiskLayout Bios { get; } =
        new(PartitionScheme.Mbr, [new(PartitionRole.System, 500 * MiB, "System"), new(PartitionRole.Windows, null, "Windows")]);

    /// <summary>A layout by its name, or from a file.</summary>
    /// <exception cref="VembarException">There is no such file, or it is not a layout.</exception>
    public static DiskLayout Named(string name) => name switch { "uefi" => Uefi, "bios" => Bios, _ => Read(name) };

    private static DiskLayout Read(string path)
    {
        if (!File.Exists(path))
            throw VembarException.Input("no-such-layout", $"there is no layout '{path}'",
                "Give uefi, bios, or a YAML file; see docs/disk-layout.md.");
        var yaml = YamlFile.Load(path, "a disk layout", "bad-layout", "docs/disk-layout.md");
        var scheme = PartitionScheme.Gpt;
        var partitions = new List<LayoutPartition>();
        foreach (var (key, value) in yaml.Root.Children)
        {
            switch ((key as YamlScalarNode)?.Value)
            {
                case "scheme" when value is YamlScalarNode { Value: "gpt" or "mbr" } scalar:
                    scheme = scalar.Value == "gpt" ? PartitionScheme.Gpt : PartitionScheme.Mbr;
                    break;
                case "partitions" when value is YamlSequenceNode list:
                    foreach (var item in list)
                    {
                        if (ReadPartition(yaml, item) is { } partition)
                            partitions.Add(partition);
                    }
                    break;
                default:
                    yaml.Wrong(key,
                        $"'{key}' is not known here, or has the wrong form; known are 'scheme' (gpt or mbr) and 'partitions' (a list)");
                    break;
            }
        }
        var layout = new DiskLayout(scheme, partitions);
        if (yaml.IsSound)
        {
            foreach (var problem in layout.Problems())
                yaml.Wrong(problem);
        }
        yaml.Throw();
        return layout;
    }

    private static LayoutPartition? ReadPartition(YamlFile yaml, YamlNode item)
    {
        const int LongestLabel = 32;
        if (yaml.Fields(item, "role", "size", "label") is not { } fields)
            return null;
        if (!fields.TryGetValue("role", out var word) || !Enum.TryParse<PartitionRole>(word, ignoreCase: true, out var role)
            || !Enum.IsDefined(role) || int.TryParse(word, out _))
        {
            yaml.Wrong(item,
                $"a partition needs a role: one of {string.Join(", ", Enum.GetNames<PartitionRole>().Select(n => n.ToLowerInvariant()))}");
            return null;
        }
        var size = fields.GetValueOrDefault("size", "rest");
        long? bytes = null;
        if (size != "rest")
        {
            if (ByteSize.TryParse(size, out var parsed))
                bytes = parsed / Alignment * Alignment;
            if (bytes is null or 0)
                yaml.Wrong(item, $"'{size}' is not a size: write for instance '600 MiB', or 'rest'");
        }
        var label = fields.GetValueOrDefault("label", "");
        if (label.Length > (role == PartitionRole.Efi ? 11 : LongestLabel))
            yaml.Wrong(item, $"the label '{label}' is too long");
        return new LayoutPartition(role, bytes, label);
    }

    private IEnumerable<string> Problems()
    {
        const long SmallestEfi = 34 * MiB;
        if (Partitions.Count(p => p.Role == PartitionRole.Windows) != 1)
            yield return "it needs exactly one partition with the role windows";
        if (Partitions.Count(p => p.Bytes is null) > 1)
            yield return "only one partition can take the rest";
        if (Partitions.Count > (Scheme == PartitionScheme.Mbr ? MostOfMbr : MostOfGpt))
            yield return $"it has {Partitions.Count} partitions; an MBR takes {MostOfMbr}, a GPT {MostOfGpt}";
        if (Scheme == PartitionScheme.Mbr && Partitions.Any(p => p.Role is PartitionRole.Efi or PartitionRole.Reserved))
            yield return "efi and reserved partitions need the scheme gpt";
        if (Scheme == PartitionScheme.Mbr && Partitions.Count(p => p.Role == PartitionRole.System) != 1)
            yield return "with the scheme mbr it needs exactly one partition with the role system, for the boot files";
        if (Scheme == PartitionScheme.Gpt && Partitions.Any(p => p.Role == PartitionRole.System))
            yield return "a system partition needs the scheme mbr; with gpt it is an efi partition";
        if (Partitions.Any(p => p.Role == PartitionRole.Efi && p.Bytes < SmallestEfi))
            yield return "an efi partition needs at least 34 MiB for FAT32";
    }

    /// <summary>Places the partitions on a disk and gives them identities of their own.</summary>
    /// <exception cref="VembarException">They do not go on it.</exception>
    public PartitionTable Place(long diskLength, int sectorSize)
    {
        const long MostOfNtfs = 64L << 40;
        var room = diskLength / Alignment * Alignment - 2 * Alignment;
        var taken = Partitions.Sum(p => p.Bytes ?? 0);
        const long LeastRest = 64 * MiB;
        if (taken + (Partitions.Any(p => p.Bytes is null) ? LeastRest : 0) > room)
        {
            throw VembarException.Input("disk-too-small",
                $"the layout needs {(taken + LeastRest) / MiB} MiB and more, the disk has {diskLength / MiB} MiB",
                "Make the disk larger, or give a layout with smaller partitions.");
        }
        if (Scheme == PartitionScheme.Mbr && sectorSize != 512)
            throw VembarException.Input("no-mbr-here", "an MBR divides only disks with sectors of 512 bytes", "Use the layout uefi.");
        if (sectorSize > 512 && Partitions.Any(p => p.Role == PartitionRole.Efi && p.Bytes < 260 * MiB))
            throw VembarException.Input("efi-too-small",
                "on a disk with sectors of 4096 bytes an efi partition needs at least 260 MiB for FAT32",
                "Give it that size in the layout.");
        const long MostOfMbrBytes = 0xFFFFFFFFL * 512;
        if (Scheme == PartitionScheme.Mbr && diskLength > MostOfMbrBytes)
            throw VembarException.Input("disk-too-large", "an MBR cannot divide a disk of more than 2 TiB", "Use the layout uefi.");
        if (Partitions.Any(p => p.Role != PartitionRole.Reserved && (p.Bytes ?? room - taken) > MostOfNtfs))
            throw VembarException.Input("disk-too-large",
                $"a partition of {(room - taken) >> 40} TiB is more than the {MostOfNtfs >> 40} TiB that are written here",
                "Make the disk smaller, or give a layout with more partitions.");
        var at = Alignment;
        var placed = new List<Partition>();
        foreach (var (partition, i) in Partitions.Select((p, i) => (p, i)))
        {
            var length = partition.Bytes ?? (room - taken) / Alignment * Alignment;
            var (type, mbr) = partition.Role switch
            {
                PartitionRole.Efi => (PartitionTypes.EfiSystem, (byte)0xEF),
                PartitionRole.Reserved => (PartitionTypes.Reserved, (byte)0),
                PartitionRole.Recovery => (PartitionTypes.Recovery, (byte)0x27),
                _ => (PartitionTypes.BasicData, (byte)0x07),
            };
            var isGpt = Scheme == PartitionScheme.Gpt;
            var name = partition.Role switch
            {
                PartitionRole.Efi => "EFI system partition",
                PartitionRole.Reserved =>
                "Microsoft reserved partition",
                PartitionRole.Recovery => "Recovery",
                _ => "Basic data partition"
            };
            placed.Add(new Partition(i + 1, at, length, isGpt ? type : default, isGpt ? Guid.NewGuid() : default, isGpt ? name : "",
                isGpt ? (byte)0 : mbr,
                !isGpt && partition.Role == PartitionRole.System));
            at += length;
        }
        return new PartitionTable(Scheme, sectorSize, Guid.NewGuid(), placed, []);
    }
}
