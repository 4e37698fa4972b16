namespace Vembar.Store.Compression;

/// <summary>How much time goes into making an archive small.</summary>
public enum Effort
{
    /// <summary>As fast as the disk.</summary>
    Quick,
    /// <summary>A good size in reasonable time.</summary>
    Balanced,
    /// <summary>As small as can be; slow to write, as fast to read.</summary>
    Dense,
}
