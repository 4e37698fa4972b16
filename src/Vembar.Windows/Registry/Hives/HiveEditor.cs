using System.Buffers.Binary;
using Vembar.Common;
using Vembar.Common.Formats;

namespace Vembar.Windows.Registry.Hives;

/// <summary>Changes keys and values of a hive that was looked over, in its place.</summary>
/// <remarks>
/// Source: "Windows registry file format specification" (Suhanov). Lists of keys stay in the order of their names and get no longer than a
/// block; long data is cut into segments from version 1.4 on; what is given up is used again.
/// </remarks>
/// <param name="hive">The hive.</param>
/// <param name="cells">Where its cells are taken from.</param>
/// <param name="time">The time that changed keys get, in 100 ns since 1601.</param>
internal sealed class HiveEditor(HiveImage hive, HiveAllocator cells, long time)
{
    /// <summary>Adds a key that is not there yet; it has the security of the one above.</summary>
    /// <param name="parent">The key above.</param>
    /// <param name="name">Its name, of 1 to 255 characters.</param>
    /// <exception cref="VembarException">The hive would be too long.</exception>
    public int AddSubkey(int parent, string name)
    {
        var security = KeyCell.At(hive, parent).Security;
        var key = cells.Take(KeyCell.HeadLength + (HiveText.IsCompressible(name) ? name.Length : name.Length * 2), parent);
        KeyCell.Make(hive.Cell(key), parent, security, name, time);
        var users = SecurityCell.At(hive, security);
        users.Users++;
        Append(parent, key, name);
        var above = KeyCell.At(hive, parent);
        above.LongestSubkeyName = Math.Max(above.LongestSubkeyName, name.Length * 2);
        above.Time = time;
        return key;
    }

    /// <summary>Puts a key below another one; its own cell is made already.</summary>
    public void Append(int parent, int key, string name)
    {
        Insert(parent, key, name);
        var above = KeyCell.At(hive, parent);
        above.Subkeys++;
    }

    private void Insert(int parent, int key, string name)
    {
        var list = KeyCell.At(hive, parent).SubkeyList;
        if (list == HiveImage.None || KeyCell.At(hive, parent).Subkeys == 0)
        {
            list = cells.Take(SubkeyLeaf.HeadLength + 8, parent);
            SubkeyLeaf.MakeLeaf(hive.Cell(list), hive.Minor);
            SetList(parent, list);
        }
        var upper = HiveText.Upper(name);
        var top = SubkeyLeaf.At(hive, list);
        if (!top.IsIndex)
        {
            var at = ~HiveReader.Search(hive, top, upper);
            if (top.Count < SubkeyLeaf.Most)
            {
                var roomy = WithRoom(list, parent);
                SubkeyLeaf.At(hive, roomy).Insert(at, key, name);
                SetList(parent, roomy);
                return;
            }
            // It becomes the first list of a list of lists.
            var index = cells.Take(SubkeyLeaf.HeadLength + 4 * sizeof(int), parent);
            SubkeyLeaf.MakeIndex(hive.Cell(index));
            SubkeyLeaf.At(hive, index).Insert(0, list, "");
            SetList(parent, index);
            list = index;
            top = SubkeyLeaf.At(hive, index);
        }
        var which = 0;
        for (var high = top.Count - 1; which < high;)
        {
            var middle = (which + high) >>> 1;
            var inner = SubkeyLeaf.At(hive, top[middle]);
            (which, high) = HiveReader.Compare(hive, inner[inner.Count - 1], upper) < 0 ? (middle + 1, high) : (which, middle);
        }
        var leaf = top[which];
        if (SubkeyLeaf.At(hive, leaf).Count >= SubkeyLeaf.Most)
        {
            list = Split(parent, list, which,
                HiveReader.Search(hive, SubkeyLeaf.At(hive, leaf), upper) == ~SubkeyLeaf.At(hive, leaf).Count);
            var first = SubkeyLeaf.At(hive, SubkeyLeaf.At(hive, list)[which]);
            while (HiveReader.Compare(hive, first[first.Count - 1], upper) < 0 && which + 1 < SubkeyLeaf.At(hive, list).Count)
                first = SubkeyLeaf.At(hive, SubkeyLeaf.At(hive, list)[++which]);
            leaf = SubkeyLeaf.At(hive, list)[which];
        }
        var place = ~HiveReader.Search(hive, SubkeyLeaf.At(hive, leaf), upper);
        var roomier = WithRoom(leaf, parent);
        SubkeyLeaf.At(hive, roomier).Insert(place, key, name);
        SubkeyLeaf.At(hive, list).Move(which, roomier);
    }

    private void SetList(int key, int list)
    {
        var cell = KeyCell.At(hive, key);
        cell.SubkeyList = list;
    }

    // Parts a full list in two: in the middle, or, where keys come one behind the other, near its end.
    private int Split(int parent, int index, int which, bool isAtEnd)
    {
        const int Tail = 8;
        var full = SubkeyLeaf.At(hive, index)[which];
        var (count, step) = (SubkeyLeaf.At(hive, full).Count, SubkeyLeaf.At(hive, full).Step);
        // A list that another program made may be much longer: then several parts of it are needed.
        var stay = count > SubkeyLeaf.Most ? SubkeyLeaf.Most / 2 : isAtEnd ? count - Tail : count / 2;
        for (var from = stay; from < count;)
        {
            var part = Math.Min(count - from, SubkeyLeaf.Most / 2);
            var made = cells.Take(SubkeyLeaf.HeadLength + part * step, full);
            SubkeyLeaf.At(hive, full).Mark.CopyTo(hive.Cell(made));
            SubkeyLeaf.At(hive, made).Append(SubkeyLeaf.At(hive, full).Entries(from, part));
            index = WithRoom(index, parent);
            SubkeyLeaf.At(hive, index).Insert(++which, made, "");
            from += part;
        }
        SetList(parent, index);
        SubkeyLeaf.At(hive, full).Cut(stay);
        cells.TryResize(full, SubkeyLeaf.HeadLength + stay * step);
        return index;
    }

    // The same list with room for one more: in its place, or in another.
    private int WithRoom(int list, int near)
    {
        var (count, step) = (SubkeyLeaf.At(hive, list).Count, SubkeyLeaf.At(hive, list).Step);
        if (SubkeyLeaf.At(hive, list).Room > count)
            return list;
        if (count == ushort.MaxValue)
            throw VembarException.Environment("hive-full",
                $"a key of the registry hive would have more lists of keys than {ushort.MaxValue}, which is all that its format can hold",
                Advice.Of("hive-full"));
        var length = SubkeyLeaf.HeadLength + (count + 1 + count / 4) * step;
        if (cells.TryResize(list, length))
            return list;
        var made = cells.Take(length, near);
        hive.Cell(list)[..(SubkeyLeaf.HeadLength + count * step)].CopyTo(hive.Cell(made));
        cells.Give(list);
        return made;
    }

    /// <summary>Removes a key with all below it.</summary>
    /// <param name="key">The key; not the root.</param>
    public void DeleteKey(int key)
    {
        var parent = KeyCell.At(hive, key).Parent;
        TakeOut(parent, key);
        var pending = new Stack<int>();
        pending.Push(key);
        while (pending.TryPop(out var next))
        {
            foreach (var child in HiveReader.Subkeys(hive, next))
                pending.Push(child);
            Forget(next);
        }
        var above = KeyCell.At(hive, parent);
        above.Time = time;
    }

    private void TakeOut(int parent, int key)
    {
        var upper = HiveText.Upper(KeyCell.At(hive, key).Name);
        var list = KeyCell.At(hive, parent).SubkeyList;
        var top = SubkeyLeaf.At(hive, list);
        if (top.IsIndex)
        {
            for (var i = 0; i < top.Count; i++)
            {
                var leaf = SubkeyLeaf.At(hive, top[i]);
                if (HiveReader.Search(hive, leaf, upper) is >= 0 and var at)
                {
                    leaf.Remove(at);
                    if (leaf.Count == 0)
                    {
                        cells.Give(top[i]);
                        top.Remove(i);
                    }
                    break;
                }
            }
        }
        else
            top.Remove(HiveReader.Search(hive, top, upper));
        var above = KeyCell.At(hive, parent);
        above.Subkeys--;
        if (above.Subkeys > 0)
            return;
        cells.Give(list);
        above.SubkeyList = HiveImage.None;
        above.LongestSubkeyName = 0;
    }

    private void Forget(int at)
    {
        var key = KeyCell.At(hive, at);
        foreach (var value in HiveReader.Values(hive, at))
            ForgetValue(value);
        if (key.Values > 0)
            cells.Give(key.ValueList);
        if (key is { SubkeyList: not HiveImage.None, Subkeys: > 0 })
        {
            var top = SubkeyLeaf.At(hive, key.SubkeyList);
            for (var i = 0; top.IsIndex && i < top.Count; i++)
                cells.Give(top[i]);
            cells.Give(key.SubkeyList);
        }
        if (key is { Class: not HiveImage.None, ClassLength: > 0 })
            cells.Give(key.Class);
        Leave(key.Security);
        cells.Give(at);
    }

    // One user less; a descriptor that nobody has any more leaves the ring.
    private void Leave(int cell)
    {
        var security = SecurityCell.At(hive, cell);
        if (--security.Users > 0)
            return;
        try
        {
            var next = SecurityCell.At(hive, security.Next);
            var before = SecurityCell.At(hive, security.Before);
            if (next.Before != cell || before.Next != cell)
                return;
            before.Next = security.Next;
            next.Before = security.Before;
        }
        catch (BinaryFormatException)
        {
            // The ring is broken: then it stays where it is.
            return;
        }
        cells.Give(cell);
    }

    /// <summary>Sets a value; nothing happens when it is so.</summary>
    /// <param name="key">The key.</param>
    /// <param name="index">The value's place in the key's list; -1 for a new one.</param>
    /// <param name="name">Its name.</param>
    /// <param name="type">Its type's number.</param>
    /// <param name="data">Its data.</param>
    /// <exception cref="VembarException">The hive would be too long.</exception>
    public void SetValue(int key, int index, string name, uint type, ReadOnlySpan<byte> data)
    {
        int cell;
        if (index >= 0)
        {
            cell = HiveReader.Values(hive, key)[index];
            if (ValueCell.At(hive, cell).Type == type && HiveReader.DataIs(hive, cell, data))
                return;
        }
        else
        {
            cell = cells.Take(ValueCell.HeadLength + (HiveText.IsCompressible(name) ? name.Length : name.Length * 2), key);
            ValueCell.Make(hive.Cell(cell), name);
            AddValue(key, cell);
        }
        PutData(cell, data);
        var value = ValueCell.At(hive, cell);
        value.Type = type;
        var owner = KeyCell.At(hive, key);
        owner.LongestValueName = Math.Max(owner.LongestValueName, name.Length * 2);
        owner.LongestData = Math.Max(owner.LongestData, data.Length);
        owner.Time = time;
    }

    private void AddValue(int key, int value)
    {
        var owner = KeyCell.At(hive, key);
        var count = owner.Values;
        if (count == 0)
            owner.ValueList = cells.Take(sizeof(int), key);
        else if (hive.Cell(owner.ValueList).Length < (count + 1) * sizeof(int))
        {
            var length = (count + 1 + count / 8) * sizeof(int);
            if (!cells.TryResize(owner.ValueList, length))
            {
                var made = cells.Take(length, key);
                hive.Cell(owner.ValueList)[..(count * sizeof(int))].CopyTo(hive.Cell(made));
                cells.Give(owner.ValueList);
                owner.ValueList = made;
            }
        }
        BinaryPrimitives.WriteInt32LittleEndian(hive.Cell(owner.ValueList)[(count * sizeof(int))..], value);
        owner.Values = count + 1;
    }

    /// <summary>Gives up the room of a value's data; it has none then.</summary>
    public void GiveUpData(int cell)
    {
        var value = ValueCell.At(hive, cell);
        ForgetData(value);
        value.SetResident([]);
    }

    private void PutData(int cell, ReadOnlySpan<byte> data)
    {
        var value = ValueCell.At(hive, cell);
        var isLong = data.Length > HiveReader.SegmentLength && hive.Minor >= HiveReader.FirstWithSegments;
        if (data.Length <= ValueCell.LongestResident || isLong || value.IsResident || value.Length == 0)
        {
            ForgetData(value);
            if (data.Length <= ValueCell.LongestResident)
                value.SetResident(data);
            else
            {
                var made = isLong ? Segmented(data, cell) : cells.Take(data.Length, cell);
                if (!isLong)
                    data.CopyTo(hive.Cell(made));
                value.SetData(made, data.Length);
            }
            return;
        }
        var there = value.Data;
        if (HiveReader.IsSegmented(hive, value, hive.Cell(there)) || !cells.TryResize(there, data.Length))
        {
            ForgetData(value);
            there = cells.Take(data.Length, cell);
        }
        data.CopyTo(hive.Cell(there));
        value.SetData(there, data.Length);
    }

    private int Segmented(ReadOnlySpan<byte> data, int near)
    {
        const int HeadLength = 8;
        var count = (data.Length - 1) / HiveReader.SegmentLength + 1;
        if (count > ushort.MaxValue)
            throw VembarException.Environment("value-too-long",
                $"a value has {data.Length} bytes; registry hives hold up to {(long)ushort.MaxValue * HiveReader.SegmentLength}",
                "Make it shorter.");
        var head = cells.Take(HeadLength, near);
        var list = cells.Take(count * sizeof(int), head);
        "db"u8.CopyTo(hive.Cell(head));
        BinaryPrimitives.WriteUInt16LittleEndian(hive.Cell(head)[2..], (ushort)count);
        BinaryPrimitives.WriteInt32LittleEndian(hive.Cell(head)[4..], list);
        for (var i = 0; i < count; i++)
        {
            var part = data[(i * HiveReader.SegmentLength)..Math.Min(data.Length, (i + 1) * HiveReader.SegmentLength)];
            // Behind each segment of Windows are four bytes that nobody uses; some readers count on them.
            const int Behind = 4;
            var segment = cells.Take(part.Length + Behind, list);
            part.CopyTo(hive.Cell(segment));
            BinaryPrimitives.WriteInt32LittleEndian(hive.Cell(list)[(i * sizeof(int))..], segment);
        }
        return head;
    }

    /// <summary>Removes a value.</summary>
    /// <param name="key">The key.</param>
    /// <param name="index">The value's place in the key's list.</param>
    public void DeleteValue(int key, int index)
    {
        var values = HiveReader.Values(hive, key);
        ForgetValue(values[index]);
        values[(index + 1)..].CopyTo(values[index..]);
        values[^1] = 0;
        var owner = KeyCell.At(hive, key);
        owner.Values--;
        owner.Time = time;
        if (owner.Values > 0)
            return;
        cells.Give(owner.ValueList);
        owner.ValueList = HiveImage.None;
        owner.LongestValueName = 0;
        owner.LongestData = 0;
    }

    private void ForgetValue(int cell)
    {
        ForgetData(ValueCell.At(hive, cell));
        cells.Give(cell);
    }

    private void ForgetData(ValueCell value)
    {
        if (value.IsResident || value.Length == 0)
            return;
        var data = hive.Cell(value.Data);
        if (HiveReader.IsSegmented(hive, value, data))
        {
            foreach (var segment in HiveReader.SegmentList(hive, value.Data, value.Length))
                cells.Give(segment);
            cells.Give(BinaryPrimitives.ReadInt32LittleEndian(data[4..]));
        }
        cells.Give(value.Data);
    }
}
