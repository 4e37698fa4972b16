namespace Vembar.Store.Format;

/// <summary>How a block's bytes are stored.</summary>
public enum Codec : byte
{
    /// <summary>As they are.</summary>
    Stored = 0,
    /// <summary>One zstd frame.</summary>
    Zstd = 1,
    /// <summary>As they are, veiled.</summary>
    StoredVeiled = 0x80,
    /// <summary>One zstd frame, veiled.</summary>
    ZstdVeiled = 0x81,
}
