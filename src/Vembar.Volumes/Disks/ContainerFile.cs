using System.Numerics;
using System.Runtime.CompilerServices;
using Vembar.Common;

namespace Vembar.Volumes.Disks;

/// <summary>A disk image's file as its own tables describe it: how far it has to reach, which bytes of the disk are missing from it, and
/// marks that say that it was not closed properly. Tables are read with limits; every number in them is hostile.</summary>
internal sealed class ContainerFile(IBlockDevice file, string path)
{
    private const int MostTableBytes = 1 << 30, MostMissing = 1 << 20;
    private readonly List<(long Start, long Length)> _missing = [];
    private readonly List<string> _marks = [];
    private ContainerFile? _cutPart;

    /// <summary>The image's path, for messages.</summary>
    public string Path => path;

    /// <summary>The length of the file in bytes.</summary>
    public long Length => file.Length;

    /// <summary>The byte after the last one that the tables place in the file.</summary>
    public long NeededLength { get; private set; }

    /// <summary>What ends at <see cref="NeededLength"/>: "cluster", "block table".</summary>
    public string NeededFor { get; private set; } = "header";

    /// <summary>The length of the disk in bytes as the header says; 0 if it does not say it.</summary>
    public long DiskLength { get; set; }

    /// <summary>Stretches of the disk whose bytes are behind the end of the file, in the order of the tables.</summary>
    public IReadOnlyList<(long Start, long Length)> Missing => _missing;

    /// <summary>Marks that say that what is in the file is not all, or not to be trusted: "it was not closed".</summary>
    public IReadOnlyList<string> Marks => _marks;

    /// <summary>The path of the image that this one stands on, as it says; null for none.</summary>
    public string? Backing { get; set; }

    /// <summary>The format of that image, as this one says; null where it does not say it.</summary>
    public string? BackingFormat { get; set; }

    /// <summary>Whether it holds only what differs from a parent, which its reader has to find.</summary>
    public bool DiffersFromParent { get; set; }

    /// <summary>The file that holds what the tables place, where that is another one.</summary>
    public FileDevice? DataFile { get; set; }

    /// <summary>The files that a descriptor names, in the order of the disk.</summary>
    public IList<ImageExtent> Extents { get; } = [];

    /// <summary>What tells the content of a VMDK from that of others, 8 hexadecimal digits.</summary>
    public string ContentId { get; set; } = "fffffffe";

    /// <summary>The same of the image that a VMDK stands on; all f for none.</summary>
    public string ParentContentId { get; set; } = "ffffffff";

    /// <summary>Adds a mark.</summary>
    public void Mark(string text) => _marks.Add(text);

    /// <summary>Says that the file has to reach to a byte.</summary>
    /// <param name="end">The byte after the last one.</param>
    /// <param name="what">What is there.</param>
    public void Need(long end, string what)
    {
        if (end < 0)
            throw Bad($"a {what} has an impossible place");
        if (end > NeededLength)
            (NeededLength, NeededFor) = (end, what);
    }

    /// <summary>Says that bytes of the disk are at a place in the file.</summary>
    /// <param name="start">The first of them on the disk.</param>
    /// <param name="length">How many they are.</param>
    /// <param name="end">The byte in the file after the last one.</param>
    /// <param name="what">What they are: "cluster".</param>
    public void Need(long start, long length, long end, string what)
    {
        Need(end, what);
        if (end > Length)
            AddMissing(start, length);
    }

    /// <summary>Says that a stretch of the disk is in the file as it is.</summary>
    /// <param name="offset">Where it begins in the file.</param>
    /// <param name="length">How long it is.</param>
    /// <param name="what">What it is.</param>
    public void NeedFlat(long offset, long length, string what)
    {
        Need(offset + length, what);
        var there = Math.Clamp(Length - offset, 0, length);
        if (there < length)
            AddMissing(there, length - there);
    }

    // None may be dropped: it would be read as zeros.
    private void AddMissing(long start, long length)
    {
        if (_missing.Count > 0 && _missing[^1].Start + _missing[^1].Length == start)
            _missing[^1] = (_missing[^1].Start, _missing[^1].Length + length);
        else if (_missing.Count < MostMissing)
            _missing.Add((start, length));
        else
            throw CutShort(NeededLength, NeededFor);
    }

    /// <summary>Adds what another file of the same disk says.</summary>
    /// <param name="part">The file.</param>
    /// <param name="start">Where its bytes begin on the disk.</param>
    public void Include(ContainerFile part, long start)
    {
        _marks.AddRange(part.Marks);
        _missing.AddRange(part.Missing.Select(m => (m.Start + start, m.Length)));
        if (part.NeededLength > part.Length)
            _cutPart ??= part;
    }

    /// <summary>Says that the file, or one that belongs to it, ends too early.</summary>
    /// <exception cref="VembarException">It does.</exception>
    public void DemandWhole()
    {
        if (NeededLength > Length)
            throw CutShort(NeededLength, NeededFor);
        _cutPart?.DemandWhole();
    }

    /// <summary>Reads a part of the file that has to be there whole.</summary>
    /// <exception cref="VembarException">It is not, or is too large.</exception>
    public byte[] Read(long offset, long count, string what)
    {
        if (count is < 0 or > MostTableBytes)
            throw Bad($"its {what} is {count} bytes long");
        if (offset < 0 || offset > long.MaxValue - count)
            throw Bad($"its {what} has an impossible place");
        if (offset + count > Length)
            throw CutShort(offset + count, what);
        Need(offset + count, what);
        var bytes = new byte[count];
        return file.Read(bytes, offset) == count ? bytes : throw CutShort(offset + count, what);
    }

    /// <summary>Reads a table of numbers of 32 or 64 bits.</summary>
    /// <typeparam name="T">The kind of number.</typeparam>
    public T[] ReadTable<T>(long offset, long count, bool isBigEndian, string what) where T : unmanaged, IBinaryInteger<T>
    {
        var size = Unsafe.SizeOf<T>();
        var bytes = Read(offset, Math.Min(count, MostTableBytes) * size, what);
        var numbers = new T[count];
        for (var i = 0; i < numbers.Length; i++)
        {
            var number = bytes.AsSpan(i * size, size);
            numbers[i] = isBigEndian ? T.ReadBigEndian(number, isUnsigned: true) : T.ReadLittleEndian(number, isUnsigned: true);
        }
        return numbers;
    }

    /// <summary>What is said of a file with impossible numbers.</summary>
    public VembarException Bad(string problem) => VembarException.Input("bad-disk-image",
        $"cannot read the disk image '{path}': {problem}", "It is damaged; use another copy.");

    /// <summary>What is said of a file that ends too early.</summary>
    public VembarException CutShort(long end, string what) => VembarException.Input("disk-cut-short",
        $"cannot read the disk image '{path}': it is cut short: its {what} ends at byte {end}, the file at byte {Length}",
        Advice.Of("disk-cut-short"));
}
