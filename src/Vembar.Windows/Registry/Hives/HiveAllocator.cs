using System.Buffers.Binary;
using Vembar.Common;

namespace Vembar.Windows.Registry.Hives;

/// <summary>
/// Which cells of a hive are free. A new one is taken near what it belongs to, else where it fits best, else in a new bin at the end; one
/// that
/// is given back is joined with its free neighbours, so that a hive does not grow by being edited.
/// </summary>
internal sealed class HiveAllocator(HiveImage hive)
{
    private const int Unit = 8, HeadLength = 4;
    // Places of free cells, and their sizes with their places. Between cells of two bins lies a bin's head, so they are never neighbours.
    private SortedSet<int> _places = [];
    private SortedSet<long> _sizes = [];

    /// <summary>The time that new bins get, in 100 ns since 1601.</summary>
    public long Time { get; set; }

    /// <summary>Free bytes.</summary>
    public long Free => _sizes.Sum(s => s >> 32);

    private static long SizeKey(int size, int at) => (long)size << 32 | (uint)at;

    /// <summary>Tells what a look over the whole hive found.</summary>
    /// <param name="free">Places and sizes of the free cells, in order of their places.</param>
    public void Begin(IReadOnlyList<(int At, int Size)> free)
    {
        // Of cells that another program did not join, the joined ones are known.
        var joined = new List<(int At, int Size)>();
        foreach (var cell in free)
        {
            if (joined.Count > 0 && joined[^1].At + joined[^1].Size == cell.At)
                joined[^1] = (joined[^1].At, joined[^1].Size + cell.Size);
            else
                joined.Add(cell);
        }
        _places = new SortedSet<int>(joined.Select(c => c.At));
        _sizes = new SortedSet<long>(joined.Select(c => SizeKey(c.Size, c.At)));
        foreach (var (at, size) in joined.Where(c => hive.SizeAt(c.At) != c.Size))
            Say(at, size);
    }

    private void Say(int at, int size) => BinaryPrimitives.WriteInt32LittleEndian(hive.Bytes(at, HeadLength), size);

    private void Add(int at, int size)
    {
        Say(at, size);
        _places.Add(at);
        _sizes.Add(SizeKey(size, at));
    }

    private void Remove(int at)
    {
        _places.Remove(at);
        _sizes.Remove(SizeKey(hive.SizeAt(at), at));
    }

    /// <summary>The size of the cell that so many bytes need.</summary>
    public static int SizeFor(int length) => (length + HeadLength + Unit - 1) / Unit * Unit;

    /// <summary>Takes a cell; it is all zeros.</summary>
    /// <param name="length">How many bytes it has to hold.</param>
    /// <param name="near">The cell that it belongs to.</param>
    /// <exception cref="VembarException">The hive would be too long.</exception>
    public int Take(int length, int near)
    {
        var needed = SizeFor(length);
        var at = Near(needed, near) ?? Best(needed) ?? Added(needed);
        var size = hive.SizeAt(at);
        Remove(at);
        if (size - needed >= Unit)
            Add(at + needed, size - needed);
        else
            needed = size;
        hive.Bytes(at, needed).Clear();
        Say(at, -needed);
        return at;
    }

    // The best fit around a place: what is changed together lies together, and few blocks of the file differ.
    private int? Near(int needed, int near)
    {
        const int Reach = 1 << 15, Most = 12;
        if (near < 0)
            return null;
        int? best = null;
        foreach (var at in _places.GetViewBetween(near, near + Reach).Take(Most)
            .Concat(_places.GetViewBetween(near - Reach, near).Reverse().Take(Most)))
        {
            var size = hive.SizeAt(at);
            if (size == needed)
                return at;
            if (size > needed && (best is null || size < hive.SizeAt(best.Value)))
                best = at;
        }
        return best;
    }

    private int? Best(int needed) =>
        _sizes.GetViewBetween(SizeKey(needed, 0), long.MaxValue) is { Min: not 0 and var found } ? (int)(uint)found : null;

    private int Added(int needed)
    {
        var length = (needed + HiveImage.BinHeadLength + HiveImage.BlockLength - 1) / HiveImage.BlockLength * HiveImage.BlockLength;
        var bin = hive.AddBin(length, Time);
        Add(bin + HiveImage.BinHeadLength, length - HiveImage.BinHeadLength);
        return bin + HiveImage.BinHeadLength;
    }

    /// <summary>Gives a cell back.</summary>
    public void Give(int cell)
    {
        var (at, size) = (cell, -hive.SizeAt(cell));
        var next = at + size;
        if (_places.Contains(next))
        {
            size += hive.SizeAt(next);
            Remove(next);
        }
        if (_places.GetViewBetween(int.MinValue, at - 1) is { Max: not 0 and var before } && before + hive.SizeAt(before) == at)
        {
            size += hive.SizeAt(before);
            Remove(before);
            at = before;
        }
        Add(at, size);
    }

    /// <summary>Makes a cell hold another length in its place, when that can be.</summary>
    /// <returns>False when there is no room for it.</returns>
    public bool TryResize(int cell, int length)
    {
        var (size, needed) = (-hive.SizeAt(cell), SizeFor(length));
        var next = cell + size;
        if (needed > size && _places.Contains(next) && size + hive.SizeAt(next) >= needed)
        {
            var more = hive.SizeAt(next);
            Remove(next);
            hive.Bytes(next, more).Clear();
            size += more;
        }
        if (needed > size)
            return false;
        if (size - needed >= Unit)
        {
            Say(cell, -needed);
            Say(cell + needed, -(size - needed));
            Give(cell + needed);
        }
        else
            Say(cell, -size);
        return true;
    }
}
