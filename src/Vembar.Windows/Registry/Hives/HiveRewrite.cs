using Vembar.Common.Formats;

namespace Vembar.Windows.Registry.Hives;

/// <summary>Writes a hive anew: all that its keys hold, one key behind the other, and nothing else.</summary>
internal sealed class HiveRewrite
{
    private readonly HiveImage _from;
    private readonly HiveImage _to;
    private readonly HiveAllocator _cells;
    private readonly HiveEditor _editor;
    private readonly CancellationToken _cancellation;
    private readonly Dictionary<int, int> _security = [];

    private HiveRewrite(HiveImage from, HiveImage to, HiveAllocator cells, long time, CancellationToken cancellation)
    {
        _from = from;
        _to = to;
        _cells = cells;
        _editor = new HiveEditor(to, cells, time);
        _cancellation = cancellation;
    }

    /// <summary>Writes a hive anew.</summary>
    /// <param name="hive">A hive that was looked over.</param>
    /// <param name="time">The time that it and its bins get, in 100 ns since 1601.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <exception cref="BinaryFormatException">The hive is damaged.</exception>
    public static byte[] Run(HiveImage hive, long time, CancellationToken cancellation)
    {
        // The base block is the same, with its numbers; the bins are all new.
        var start = new byte[HiveImage.BlockLength];
        hive.Base.CopyTo(start);
        var to = HiveImage.Begin(start);
        var cells = new HiveAllocator(to) { Time = time };
        var rewrite = new HiveRewrite(hive, to, cells, time, cancellation);
        to.SetRoot(rewrite.Copy(hive.Root, HiveImage.None));
        return to.ToBytes(time);
    }

    // Keys wait on a list of their own: they may be 512 deep.
    private int Copy(int root, int none)
    {
        var pending = new Stack<(int From, int Parent)>();
        pending.Push((root, none));
        var top = none;
        var looked = 0;
        while (pending.TryPop(out var next))
        {
            const int Often = 1024;
            if (++looked % Often == 0)
                _cancellation.ThrowIfCancellationRequested();
            var made = CopyKey(next.From, next.Parent);
            if (top == none)
                top = made;
            var below = HiveReader.Subkeys(_from, next.From);
            for (var i = below.Count - 1; i >= 0; i--)
                pending.Push((below[i], made));
        }
        return top;
    }

    private int CopyKey(int from, int parent)
    {
        var key = KeyCell.At(_from, from);
        var name = key.Name;
        var made = _cells.Take(KeyCell.HeadLength + key.StoredName.Length, _to.Length);
        var bytes = _to.Cell(made);
        key.Head.CopyTo(bytes);
        key.StoredName.CopyTo(bytes[KeyCell.HeadLength..]);
        var copy = KeyCell.At(_to, made);
        copy.Reset(parent == HiveImage.None ? key.Parent : parent);
        copy.Security = Security(key.Security);
        if (key is { Class: not HiveImage.None, ClassLength: > 0 })
        {
            copy.Class = _cells.Take(key.ClassLength, made);
            _from.Cell(key.Class, key.ClassLength)[..key.ClassLength].CopyTo(_to.Cell(copy.Class));
        }
        else
            copy.Class = HiveImage.None;
        foreach (var cell in HiveReader.Values(_from, from))
        {
            var value = ValueCell.At(_from, cell);
            _editor.SetValue(made, -1, value.Name, value.Type, HiveReader.Data(_from, cell));
        }
        if (parent != HiveImage.None)
            _editor.Append(parent, made, name);
        copy.LongestValueName = key.LongestValueName;
        copy.LongestData = key.LongestData;
        copy.LongestSubkeyName = key.LongestSubkeyName;
        copy.Time = key.Time;
        return made;
    }

    // Descriptors that say the same are one again.
    private int Security(int from)
    {
        if (!_security.TryGetValue(from, out var made))
        {
            var descriptor = SecurityCell.At(_from, from).Descriptor;
            made = HiveImage.None;
            foreach (var other in _security.Values)
            {
                if (SecurityCell.At(_to, other).Descriptor.SequenceEqual(descriptor))
                    made = other;
            }
            if (made == HiveImage.None)
            {
                made = _cells.Take(SecurityCell.HeadLength + descriptor.Length, _to.Length);
                var cell = SecurityCell.Make(_to.Cell(made), made, descriptor);
                if (_security.Count > 0)
                {
                    var first = SecurityCell.At(_to, _security.Values.First());
                    var before = SecurityCell.At(_to, first.Before);
                    cell.Next = before.Next;
                    cell.Before = first.Before;
                    before.Next = made;
                    first.Before = made;
                }
            }
            _security[from] = made;
        }
        var users = SecurityCell.At(_to, made);
        users.Users++;
        return made;
    }
}
