namespace Vembar.Operations.Workspaces;

/// <summary>What became of an entry in a workspace.</summary>
public enum WorkspaceChangeKind
{
    /// <summary>It was not there.</summary>
    Added,
    /// <summary>It is gone.</summary>
    Removed,
    /// <summary>Something of it is different.</summary>
    Changed,
    /// <summary>It has another path, and may be different too.</summary>
    Moved,
}
