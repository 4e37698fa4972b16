namespace Vembar.Images.Nodes;

/// <summary>An open file of a source.</summary>
public interface ISourceFile : IDisposable
{
    /// <summary>The length now, in bytes.</summary>
    long Length { get; }

    /// <summary>Reads from a place; fewer bytes than asked only at the end.</summary>
    int Read(Span<byte> to, long offset);

    /// <summary>The next stretch with data from an offset on; both numbers are the length when only a hole is left.</summary>
    (long Start, long End) NextData(long offset);

    /// <summary>Whether it was written to since it was opened.</summary>
    bool HasChanged();
}
