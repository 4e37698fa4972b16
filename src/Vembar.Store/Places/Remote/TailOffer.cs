namespace Vembar.Store.Places.Remote;

/// <summary>What is to be added to an archive at a station, before it is sent. docs/places.md.</summary>
/// <param name="After">The state that it was made for (<see cref="Reading.ArchiveReader.StateTag"/>); empty for an archive that is not
/// there.</param>
/// <param name="Replaces">Whether it is a whole archive that takes the place of the one that is there.</param>
/// <param name="Length">How long it is, in bytes.</param>
/// <param name="Parts">BLAKE3 of its parts, lower-case hex: each <see cref="PartLength"/> long, apart from the last.</param>
public sealed record TailOffer(string After, bool Replaces, long Length, IReadOnlyList<string> Parts)
{
    /// <summary>How long a part is.</summary>
    public const int PartLength = 8 << 20;

    /// <summary>The header by which a station says that it takes tails for an archive from whoever asks.</summary>
    public const string Header = "Vembar-Takes-Tails";

    /// <summary>How long a part of this one is.</summary>
    public int LengthOf(int part) => (int)Math.Min(PartLength, Length - (long)part * PartLength);

    /// <summary>Whether it can be what it says.</summary>
    public bool IsSensible => Length > 0 && Parts is not null && Parts.Count == (Length + PartLength - 1) / PartLength
        && Parts.All(p => p is { Length: 64 } && p.All(char.IsAsciiHexDigitLower)) && After is { Length: <= 200 };
}
