using Vembar.Store.Format;

namespace Vembar.Store.Reading;

/// <summary>A state that an archive went through.</summary>
/// <param name="Commit">Its record; null where that is damaged, and with it the way to those before.</param>
/// <param name="Catalogue">Its list of images; null where that is damaged.</param>
/// <param name="Problem">What is damaged; empty for nothing.</param>
internal sealed record FormerState(CommitRecord? Commit, Catalogue? Catalogue, string Problem);
