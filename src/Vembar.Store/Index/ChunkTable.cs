using System.Numerics;
using Vembar.Store.Hashing;

namespace Vembar.Store.Index;

/// <summary>
/// Chunks with their places, found by id. There is one for every file of an image that is being stored, so entries lie in
/// pages that are never copied, and only the small numbers that lead to them are when the table grows.
/// </summary>
internal sealed class ChunkTable
{
    private const int PageBits = 10, PageSize = 1 << PageBits;
    private readonly List<Row[]> _pages = [];
    private int[] _slots = new int[64];

    /// <summary>A chunk and where it is: in which block, from which byte on, how long.</summary>
    public struct Row
    {
        public ChunkId Id;
        public int Block;
        public int Offset;
        public int Length;
    }

    public int Count { get; private set; }

    /// <summary>The row with a number below <see cref="Count"/>, in the order in which they were added.</summary>
    public ref Row this[int number] => ref _pages[number >> PageBits][number & (PageSize - 1)];

    public bool Contains(ChunkId id) => _slots[Slot(id)] != 0;

    /// <summary>The row of a chunk.</summary>
    public bool TryFind(ChunkId id, out Row row)
    {
        var number = _slots[Slot(id)];
        row = number != 0 ? this[number - 1] : default;
        return number != 0;
    }

    /// <summary>Adds a chunk whose place is to follow; false when it is there.</summary>
    public bool TryAdd(ChunkId id)
    {
        var slot = Slot(id);
        if (_slots[slot] != 0)
            return false;
        Append(slot, id) = new Row { Id = id, Block = -1 };
        return true;
    }

    /// <summary>Sets a chunk's place; the chunk is added where it is not there.</summary>
    public void Set(ChunkId id, int block, int offset, int length)
    {
        var slot = Slot(id);
        ref var row = ref _slots[slot] != 0 ? ref this[_slots[slot] - 1] : ref Append(slot, id);
        row = new Row { Id = id, Block = block, Offset = offset, Length = length };
    }

    /// <summary>The rows' numbers in the order of their ids.</summary>
    public int[] Sorted()
    {
        var order = new int[Count];
        for (var i = 0; i < order.Length; i++)
            order[i] = i;
        Array.Sort(order, (a, b) => this[a].Id.CompareTo(this[b].Id));
        return order;
    }

    private ref Row Append(int slot, ChunkId id)
    {
        // At most two thirds of the slots are taken.
        if (Count + 1 > _slots.Length / 3 * 2)
        {
            var larger = new int[_slots.Length * 2];
            var old = _slots;
            _slots = larger;
            foreach (var number in old.Where(n => n != 0))
                _slots[Slot(this[number - 1].Id)] = number;
            slot = Slot(id);
        }
        if ((Count & (PageSize - 1)) == 0)
            _pages.Add(new Row[PageSize]);
        _slots[slot] = ++Count;
        return ref this[Count - 1];
    }

    // The slot of an id, or the free one where it belongs. Ids are hashes, so any of their bits will do.
    private int Slot(ChunkId id)
    {
        var mask = _slots.Length - 1;
        for (var at = (int)BitOperations.RotateLeft((uint)id.GetHashCode(), 7) & mask; ; at = (at + 1) & mask)
        {
            if (_slots[at] == 0 || this[_slots[at] - 1].Id == id)
                return at;
        }
    }
}
