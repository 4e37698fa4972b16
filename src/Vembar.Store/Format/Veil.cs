using System.Runtime.InteropServices;
using System.Security.Cryptography;

namespace Vembar.Store.Format;

/// <summary>
/// Hides the four bytes that every structure of an archive begins with where they stand inside of a payload, so that no content can
/// pass for a block or for the record of a state: payloads that hold them are combined with a random key. docs/archive-format.md, "Veil".
/// </summary>
internal static class Veil
{
    /// <summary>The bit of a codec that says so.</summary>
    public const int Flag = 0x80;

    /// <summary>Bytes of the key, which stands in front of the payload.</summary>
    public const int KeyLength = 8;

    /// <summary>Whether a payload needs a veil.</summary>
    public static bool IsNeeded(ReadOnlySpan<byte> payload) => payload.IndexOf(BlockInfo.Magic) >= 0;

    /// <summary>Lays a veil over a payload.</summary>
    /// <param name="payload">The payload, with room of <see cref="KeyLength"/> bytes behind it; all of it is written.</param>
    public static void Lay(Span<byte> payload)
    {
        payload[..^KeyLength].CopyTo(payload[KeyLength..]);
        var below = payload[KeyLength..];
        Span<byte> key = stackalloc byte[KeyLength];
        Span<byte> before = stackalloc byte[KeyLength];
        before.Clear();
        do
        {
            // What the key before did is undone with the same stroke.
            RandomNumberGenerator.Fill(key);
            Combine(below, MemoryMarshal.Read<ulong>(key) ^ MemoryMarshal.Read<ulong>(before));
            key.CopyTo(before);
            key.CopyTo(payload);
        }
        while (IsNeeded(payload));
    }

    /// <summary>Takes the veil away.</summary>
    /// <returns>The payload below it, in the same place.</returns>
    public static Span<byte> Lift(Span<byte> veiled)
    {
        if (veiled.Length < KeyLength)
            return [];
        var below = veiled[KeyLength..];
        Combine(below, MemoryMarshal.Read<ulong>(veiled));
        return below;
    }

    private static void Combine(Span<byte> bytes, ulong key)
    {
        var words = MemoryMarshal.Cast<byte, ulong>(bytes);
        foreach (ref var word in words)
            word ^= key;
        var rest = bytes[(words.Length * KeyLength)..];
        for (var i = 0; i < rest.Length; i++)
            rest[i] ^= (byte)(key >> (8 * i));
    }
}
