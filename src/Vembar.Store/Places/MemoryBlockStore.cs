namespace Vembar.Store.Places;

/// <summary>Keeps blocks in memory, up to a number of bytes; what was not used for longest goes first. For a machine that writes its only
/// disk: there is nowhere else to keep them.</summary>
/// <param name="limit">How many bytes it may hold.</param>
public sealed class MemoryBlockStore(long limit) : IBlockStore
{
    private readonly Dictionary<string, LinkedListNode<(string Name, byte[] Bytes)>> _blocks = [];
    private readonly LinkedList<(string Name, byte[] Bytes)> _order = new();
    private readonly Lock _gate = new();
    private long _held;

    /// <inheritdoc/>
    public bool TryRead(string name, Span<byte> to)
    {
        lock (_gate)
        {
            if (!_blocks.TryGetValue(name, out var node) || node.Value.Bytes.Length != to.Length)
                return false;
            _order.Remove(node);
            _order.AddLast(node);
            node.Value.Bytes.CopyTo(to);
            return true;
        }
    }

    /// <inheritdoc/>
    public bool Contains(string name)
    {
        lock (_gate)
            return _blocks.ContainsKey(name);
    }

    /// <inheritdoc/>
    public void Keep(string name, ReadOnlySpan<byte> bytes)
    {
        if (bytes.Length > limit)
            return;
        lock (_gate)
        {
            if (_blocks.ContainsKey(name))
                return;
            while (_held + bytes.Length > limit)
                Remove(_order.First!);
            _blocks[name] = _order.AddLast((name, bytes.ToArray()));
            _held += bytes.Length;
        }
    }

    /// <inheritdoc/>
    public void Forget(string name)
    {
        lock (_gate)
        {
            if (_blocks.TryGetValue(name, out var node))
                Remove(node);
        }
    }

    private void Remove(LinkedListNode<(string Name, byte[] Bytes)> node)
    {
        _order.Remove(node);
        _blocks.Remove(node.Value.Name);
        _held -= node.Value.Bytes.Length;
    }
}
