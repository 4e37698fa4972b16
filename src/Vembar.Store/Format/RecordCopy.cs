namespace Vembar.Store.Format;

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
