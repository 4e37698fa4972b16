using System.Buffers;
using Vembar.Common;
using Vembar.Store.Format;

namespace Vembar.Store.Reading;

/// <summary>
/// Expanded blocks of an archive, of which the least recently used goes first. Two threads that want the same block expand it once. The
/// bytes are from a pool: large arrays that come and go would be most of the collector's work.
/// </summary>
/// <param name="read">Expands a block into an array of the shared pool.</param>
/// <param name="capacity">How many expanded bytes are kept beside those in use; a block that is larger is kept until the next one
/// comes.</param>
internal sealed class BlockCache(Func<BlockInfo, byte[]> read, long capacity)
{
    private readonly LinkedList<Entry> _order = new();
    private readonly Dictionary<BlockInfo, LinkedListNode<Entry>> _nodes = [];
    private readonly Lock _gate = new();
    private long _bytes;

    private sealed class Entry(BlockInfo block, Lazy<byte[]> bytes)
    {
        public BlockInfo Block => block;
        public byte[] Bytes => bytes.Value;
        public int Users { get; set; }
        public bool IsOut { get; set; }

        // Nobody looks at it any more and nobody will find it.
        public void GiveBack()
        {
            if (Users == 0 && IsOut && bytes.IsValueCreated)
                ArrayPool<byte>.Shared.Return(bytes.Value);
        }
    }

    /// <summary>Hands the expanded bytes of a block to an action; the array may be longer than they are.</summary>
    /// <exception cref="VembarException">The block is damaged.</exception>
    public void Use(BlockInfo block, Action<byte[]> action)
    {
        Entry entry;
        lock (_gate)
        {
            // By all that is known of it: two indexes may say different things of one place.
            if (_nodes.TryGetValue(block, out var node))
            {
                _order.Remove(node);
                _order.AddFirst(node);
                entry = node.Value;
            }
            else
            {
                entry = new Entry(block, new Lazy<byte[]>(() => read(block)));
                _nodes[block] = _order.AddFirst(entry);
                _bytes += block.PlainLength;
                while (_bytes > capacity && _order.Count > 1)
                    Drop(_order.Last!);
            }
            entry.Users++;
        }
        try
        {
            action(entry.Bytes);
        }
        finally
        {
            lock (_gate)
            {
                entry.Users--;
                if (block.PlainLength > capacity && !entry.IsOut && entry.Users == 0)
                    Drop(_nodes[block]);
                else
                    entry.GiveBack();
            }
        }
    }

    /// <summary>Takes a block out, so that it is read again.</summary>
    public void Forget(BlockInfo block)
    {
        lock (_gate)
        {
            if (_nodes.TryGetValue(block, out var node))
                Drop(node);
        }
    }

    private void Drop(LinkedListNode<Entry> node)
    {
        _order.Remove(node);
        _nodes.Remove(node.Value.Block);
        _bytes -= node.Value.Block.PlainLength;
        node.Value.IsOut = true;
        node.Value.GiveBack();
    }
}
