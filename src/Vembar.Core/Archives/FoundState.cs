namespace Vembar.Core.Archives;

/// <summary>How a copy of a commit record was found.</summary>
internal enum RecordCopy
{
    /// <summary>As it was written.</summary>
    Whole,
    /// <summary>Not there, or only begun: the run that wrote it was interrupted, or the file was cut off.</summary>
    Missing,
    /// <summary>Other bytes are in its place.</summary>
    Damaged,
}

/// <summary>The last valid state of an archive, and what is behind it.</summary>
/// <param name="Commit">Its record.</param>
/// <param name="First">How the first copy of the record was found.</param>
/// <param name="Second">How the second copy was found.</param>
/// <param name="Tail">What is behind it.</param>
internal sealed record FoundState(CommitRecord Commit, RecordCopy First, RecordCopy Second, TailKind Tail);
