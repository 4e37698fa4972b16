namespace Vembar.Store.Places;

/// <summary>Knows which of the things that may bear a name it is.</summary>
public interface IPathIdentity
{
    /// <summary>True while the path still names this very file.</summary>
    bool IsStillAt(string path);
}
