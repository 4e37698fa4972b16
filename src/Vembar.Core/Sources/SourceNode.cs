using Vembar.Core.Trees;

namespace Vembar.Core.Sources;

/// <summary>A file or folder of a source, as a walk over it found it.</summary>
public sealed class SourceNode
{
    /// <summary>What is known of it; content and folder hash are filled in as they become known.</summary>
    public required TreeEntry Entry { get; set; }

    /// <summary>The folder it is in; null for the root.</summary>
    public required SourceNode? Parent { get; init; }

    /// <summary>What is in it, when it is a folder.</summary>
    public List<SourceNode>? Children { get; set; }

    /// <summary>The name's own bytes with a NUL at the end.</summary>
    public byte[] RawName => Native.PosixName.Encode(Entry.Name);

    /// <summary>The file's length when it was walked over, in bytes.</summary>
    public long Length { get; init; }

    /// <summary>When anything of the file last changed, as its file system says; nobody can set it back.</summary>
    public FileTime Changed { get; init; }

    /// <summary>The first found name of the same file, when this is a further one.</summary>
    public SourceNode? SameAs { get; set; }

    /// <summary>True when it went away while the source was read.</summary>
    public bool Vanished { get; set; }

    /// <summary>The path from the root.</summary>
    public WindowsPath Path => Parent is null ? WindowsPath.Root : Parent.Path.Child(Entry.Name);
}

/// <summary>A path that was left out, and why.</summary>
/// <param name="Path">The path from the source's root.</param>
/// <param name="Rule">The pattern that left it out, or the reason.</param>
public sealed record LeftOut(string Path, string Rule);

/// <summary>What a walk found.</summary>
/// <param name="Root">The root with everything below it.</param>
/// <param name="Files">Files and links, each name counted.</param>
/// <param name="Folders">Folders, the root included.</param>
/// <param name="Bytes">Bytes of all files; hard-linked content counts once.</param>
/// <param name="LeftOut">What was left out.</param>
/// <param name="Warnings">What should be known.</param>
public sealed record SourceTree(SourceNode Root, long Files, long Folders, long Bytes, IReadOnlyList<LeftOut> LeftOut, IReadOnlyList<string> Warnings);

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
