using Vembar.Store.Format;

namespace Vembar.Store.Reading;

/// <summary>The last valid state of an archive, and what is behind it.</summary>
/// <param name="Commit">Its record.</param>
/// <param name="First">How the first copy of the record was found; looked at when that is asked.</param>
/// <param name="Second">How the second copy was found.</param>
/// <param name="Tail">What is behind it.</param>
internal sealed record FoundState(CommitRecord Commit, Lazy<RecordCopy> First, RecordCopy Second, TailKind Tail);
