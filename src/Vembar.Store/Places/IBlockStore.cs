namespace Vembar.Store.Places;

/// <summary>Keeps blocks of archives that are far away. What it gives back is never trusted: whoever asks checks it.</summary>
public interface IBlockStore
{
    /// <summary>Fills a buffer with what is kept under a name; false when nothing of that length is.</summary>
    bool TryRead(string name, Span<byte> to);

    /// <summary>Whether something is kept under a name.</summary>
    bool Contains(string name);

    /// <summary>Keeps bytes under a name. It may keep nothing.</summary>
    void Keep(string name, ReadOnlySpan<byte> bytes);

    /// <summary>Keeps them no longer: they were not what they should be.</summary>
    void Forget(string name);
}
