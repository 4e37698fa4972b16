using System.Buffers.Binary;
using Vembar.Common.Formats;

namespace Vembar.Windows.Registry.Hives;

/// <summary>
/// Looks over a whole hive before it is changed: bins and cells cover it without a gap, each cell is used once, nothing leads in a circle.
/// What other programs do in another way than Windows, and Windows puts up with or loses, is put right: numbers of users of security
/// descriptors, the order of lists of keys.
/// </summary>
internal sealed class HiveCheck
{
    private readonly HiveImage _hive;
    // A bit for each place at which a cell in use begins, and for each that something leads to.
    private readonly ulong[] _begins;
    private readonly ulong[] _used;
    private readonly List<(int At, int Size)> _free = [];
    private readonly Dictionary<int, int> _security = [];
    private readonly CancellationToken _cancellation;
    // What is put right once all is known to be sound: before, not a byte is changed.
    private readonly List<Action> _putRight = [];
    // Room for two names; none is longer, as their lengths have 16 bits.
    private char[] _name = new char[ushort.MaxValue];
    private char[] _nameBefore = new char[ushort.MaxValue];

    private HiveCheck(HiveImage hive, CancellationToken cancellation)
    {
        _hive = hive;
        _cancellation = cancellation;
        _begins = new ulong[hive.Length / 512 + 1];
        _used = new ulong[hive.Length / 512 + 1];
    }

    /// <summary>Looks over a hive.</summary>
    /// <param name="hive">The hive.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <returns>What can cells be taken from.</returns>
    /// <exception cref="BinaryFormatException">It is damaged; what is told is the first damage found.</exception>
    public static HiveAllocator Run(HiveImage hive, CancellationToken cancellation)
    {
        var check = new HiveCheck(hive, cancellation);
        check.Bins();
        check.Keys();
        check.Security();
        foreach (var put in check._putRight)
            put();
        hive.IsInOrder = true;
        var allocator = new HiveAllocator(hive);
        allocator.Begin(check._free);
        return allocator;
    }

    private void Bins()
    {
        if (_hive.ToldLength != _hive.Length || _hive.Length == 0 || _hive.Length % HiveImage.BlockLength != 0)
            throw new BinaryFormatException("base block", 40, $"it tells {_hive.ToldLength} bytes of bins, there are {_hive.Length}");
        for (var at = 0; at < _hive.Length;)
        {
            _cancellation.ThrowIfCancellationRequested();
            var head = _hive.Bytes(at, HiveImage.BinHeadLength);
            var length = BinaryPrimitives.ReadInt32LittleEndian(head[8..]);
            if (!head.StartsWith("hbin"u8) || BinaryPrimitives.ReadInt32LittleEndian(head[4..]) != at || length <= 0
                || length % HiveImage.BlockLength != 0 || length > _hive.Length - at)
                throw new BinaryFormatException("bin", at, "its head is damaged");
            Cells(at + HiveImage.BinHeadLength, at + length);
            at += length;
        }
    }

    private void Cells(int at, int end)
    {
        var bytes = _hive.Bytes(at, end - at);
        for (var i = 0; i < bytes.Length;)
        {
            var size = BinaryPrimitives.ReadInt32LittleEndian(bytes[i..]);
            var length = Math.Abs((long)size);
            if (length == 0 || length % 8 != 0 || length > bytes.Length - i)
                throw new BinaryFormatException("cell", at + i, $"its size is {size}");
            if (size < 0)
                _begins[(at + i) / 512] |= 1UL << (at + i) / 8 % 64;
            else
                _free.Add((at + i, size));
            i += (int)length;
        }
    }

    private void Use(int cell, string what)
    {
        if (cell < 0 || cell >= _hive.Length || cell % 8 != 0 || (_begins[cell / 512] & 1UL << cell / 8 % 64) == 0)
            throw new BinaryFormatException(what, cell, "there is no cell in use");
        ref var word = ref _used[cell / 512];
        var bit = 1UL << cell / 8 % 64;
        if ((word & bit) != 0)
            throw new BinaryFormatException(what, cell, "the cell is used twice");
        word |= bit;
    }

    private void Keys()
    {
        var pending = new Stack<(int Key, int Parent, int Depth)>();
        Use(_hive.Root, "root key");
        pending.Push((_hive.Root, HiveImage.None, 0));
        var looked = 0;
        while (pending.TryPop(out var next))
        {
            const int Often = 1024;
            if (++looked % Often == 0)
                _cancellation.ThrowIfCancellationRequested();
            if (next.Depth > KeyCell.Deepest)
                throw new BinaryFormatException("key", next.Key, $"it is more than {KeyCell.Deepest} keys deep");
            var key = KeyCell.At(_hive, next.Key);
            if (next.Depth > 0 && key.Parent != next.Parent)
                throw new BinaryFormatException("key", next.Key, "it says that it is below another key than it is");
            _security[key.Security] = _security.GetValueOrDefault(key.Security) + 1;
            if (key.Class != HiveImage.None && key.ClassLength > 0)
            {
                Use(key.Class, "class name");
                _ = _hive.Cell(key.Class, key.ClassLength);
            }
            Values(next.Key, key);
            if (key.Subkeys != 0 || key.SubkeyList != HiveImage.None)
                Subkeys(next.Key, key, next.Depth, pending);
        }
    }

    private void Values(int at, KeyCell key)
    {
        if (key.Values == 0)
            return;
        Use(key.ValueList, "list of values");
        foreach (var cell in HiveReader.Values(_hive, at))
        {
            Use(cell, "value");
            var value = ValueCell.At(_hive, cell);
            if (value.IsResident)
            {
                if (value.Length > ValueCell.LongestResident)
                    throw new BinaryFormatException("value", cell, $"it tells {value.Length} bytes in itself");
                continue;
            }
            if (value.Length == 0)
                continue;
            Use(value.Data, "data");
            var data = _hive.Cell(value.Data);
            if (!HiveReader.IsSegmented(_hive, value, data))
            {
                if (value.Length > data.Length)
                    throw new BinaryFormatException("value", cell, $"it tells {value.Length} bytes, its data has {data.Length}");
                continue;
            }
            var segments = HiveReader.SegmentList(_hive, value.Data, value.Length);
            Use(BinaryPrimitives.ReadInt32LittleEndian(data[4..]), "list of segments");
            for (var i = 0; i < segments.Length; i++)
            {
                Use(segments[i], "segment");
                _ = _hive.Cell(segments[i], Math.Min(HiveReader.SegmentLength, value.Length - i * HiveReader.SegmentLength));
            }
        }
    }

    private void Subkeys(int at, KeyCell key, int depth, Stack<(int Key, int Parent, int Depth)> pending)
    {
        if (key.SubkeyList == HiveImage.None)
            throw new BinaryFormatException("key", at, $"it tells {(uint)key.Subkeys} keys below it and has no list of them");
        // A list that nobody counts belongs to no one.
        if (key.Subkeys == 0)
            return;
        Use(key.SubkeyList, "list of keys");
        var top = SubkeyLeaf.At(_hive, key.SubkeyList);
        for (var i = 0; top.IsIndex && i < top.Count; i++)
            Use(top[i], "list of keys");
        var all = new List<int>();
        var inOrder = true;
        ReadOnlySpan<char> before = [];
        for (var i = 0; i < (top.IsIndex ? top.Count : 1); i++)
        {
            var leaf = top.IsIndex ? SubkeyLeaf.At(_hive, top[i]) : top;
            if (top.IsIndex && leaf.IsIndex)
                throw new BinaryFormatException("list of keys", top[i], "it is a list of lists of lists");
            if (top.IsIndex && leaf.Count == 0)
                throw new BinaryFormatException("list of keys", top[i], "it is empty");
            for (var j = 0; j < leaf.Count; j++)
            {
                var child = leaf[j];
                Use(child, "key");
                var cell = KeyCell.At(_hive, child);
                var upper = HiveText.Upper(cell.StoredName, cell.IsCompressed, _name);
                var order = all.Count == 0 ? -1 : before.SequenceCompareTo(upper);
                if (order == 0)
                    throw Twice(child, upper);
                inOrder &= order < 0;
                if (leaf.IsHashed && HiveText.Hash(upper) is var hash && leaf.HashAt(j) != hash)
                    PutHash(top.IsIndex ? top[i] : key.SubkeyList, j, hash);
                before = upper;
                (_name, _nameBefore) = (_nameBefore, _name);
                all.Add(child);
                pending.Push((child, at, depth + 1));
            }
        }
        if (all.Count != key.Subkeys)
            throw new BinaryFormatException("key", at, $"it tells {(uint)key.Subkeys} keys below it, its list has {all.Count}");
        if (!inOrder)
            Sort(at, all);
    }

    private void PutHash(int list, int index, uint hash) => _putRight.Add(() => SubkeyLeaf.At(_hive, list).SetHash(index, hash));

    private static BinaryFormatException Twice(int key, ReadOnlySpan<char> name) => new("key", key, $"its name '{name}' is there twice");

    private void Sort(int key, List<int> keys)
    {
        var named = keys.Select(k => (Key: k, Name: KeyCell.At(_hive, k).Name, Upper: HiveText.Upper(KeyCell.At(_hive, k).Name))).ToList();
        named.Sort((a, b) => a.Upper.AsSpan().SequenceCompareTo(b.Upper));
        for (var i = 1; i < named.Count; i++)
        {
            if (named[i].Upper.AsSpan().SequenceEqual(named[i - 1].Upper))
                throw Twice(named[i].Key, named[i].Upper);
        }
        _putRight.Add(() => PutInOrder(key, named));
    }

    private void PutInOrder(int key, List<(int Key, string Name, char[] Upper)> named)
    {
        var top = SubkeyLeaf.At(_hive, KeyCell.At(_hive, key).SubkeyList);
        var next = 0;
        for (var i = 0; i < (top.IsIndex ? top.Count : 1); i++)
        {
            var leaf = top.IsIndex ? SubkeyLeaf.At(_hive, top[i]) : top;
            var count = leaf.Count;
            leaf.Cut(0);
            for (var j = 0; j < count; j++, next++)
                leaf.Insert(j, named[next].Key, named[next].Name);
        }
    }

    private void Security()
    {
        foreach (var (cell, users) in _security)
        {
            Use(cell, "security descriptor");
            var security = SecurityCell.At(_hive, cell);
            if (security.Users != users)
                _putRight.Add(() => PutUsers(cell, users));
        }
    }

    private void PutUsers(int cell, int users)
    {
        var security = SecurityCell.At(_hive, cell);
        security.Users = users;
    }
}
