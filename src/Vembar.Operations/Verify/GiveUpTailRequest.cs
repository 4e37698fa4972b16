using Vembar.Store.Places;

namespace Vembar.Operations.Verify;

/// <summary>In which archive to give up what is behind the last whole state.</summary>
/// <param name="Archive">The archive.</param>
/// <param name="Wait">How long to wait for another writer.</param>
public sealed record GiveUpTailRequest(ArchiveLocation Archive, TimeSpan Wait);
