namespace Vembar.Store.Places;

/// <summary>Keeps other writers away; it is given up when what has it is closed.</summary>
public interface IFileLock
{
    /// <summary>Takes the exclusive lock; false when another process or handle has it.</summary>
    bool TryLock();
}
