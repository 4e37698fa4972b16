namespace Vembar.Native;

/// <summary>The names in a folder, as the bytes that they are; one is used for folder after folder.</summary>
public sealed class PosixNames
{
    private byte[] _bytes = new byte[4096];
    private int _used;
    private readonly List<(int Start, int Length)> _names = [];

    /// <summary>How many there are.</summary>
    public int Count => _names.Count;

    /// <summary>A name's bytes.</summary>
    public ReadOnlySpan<byte> this[int index] => _bytes.AsSpan(_names[index].Start, _names[index].Length);

    /// <summary>A name's bytes with a NUL at the end, as the calls of <see cref="Posix"/> want them.</summary>
    public ReadOnlySpan<byte> Raw(int index) => _bytes.AsSpan(_names[index].Start, _names[index].Length + 1);

    /// <summary>A name as <see cref="PosixName"/> decodes it.</summary>
    public string Text(int index) => PosixName.Decode(this[index]);

    internal void Clear()
    {
        _used = 0;
        _names.Clear();
    }

    internal void Add(ReadOnlySpan<byte> name)
    {
        if (_used + name.Length + 1 > _bytes.Length)
            Array.Resize(ref _bytes, Math.Max(2 * _bytes.Length, _used + name.Length + 1));
        name.CopyTo(_bytes.AsSpan(_used));
        _bytes[_used + name.Length] = 0;
        _names.Add((_used, name.Length));
        _used += name.Length + 1;
    }

    internal void Sort() => _names.Sort((a, b) => _bytes.AsSpan(a.Start, a.Length).SequenceCompareTo(_bytes.AsSpan(b.Start, b.Length)));
}
