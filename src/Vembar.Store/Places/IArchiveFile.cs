namespace Vembar.Store.Places;

/// <summary>An archive's file as a writer has it: read, written, locked, and told from others that take its name.</summary>
public interface IArchiveFile : IByteSource, IByteStore, IFileLock, IPathIdentity;
