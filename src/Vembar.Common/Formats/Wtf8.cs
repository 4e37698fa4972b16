using System.Buffers;
using System.Text;

namespace Vembar.Common.Formats;

/// <summary>UTF-8 that also carries lone surrogates, as three bytes each, so that every UTF-16 name keeps its form.</summary>
/// <remarks>Source: "The WTF-8 encoding" (Sapin), sections 2 and 4.</remarks>
public static class Wtf8
{
    /// <summary>The bytes of a text.</summary>
    public static byte[] Encode(string text)
    {
        if (text.AsSpan().IndexOfAnyInRange('\uD800', '\uDFFF') < 0)
            return Encoding.UTF8.GetBytes(text);
        var room = new byte[text.Length * 3];
        var used = 0;
        for (var i = 0; i < text.Length;)
        {
            if (Rune.DecodeFromUtf16(text.AsSpan(i), out var rune, out var units) == OperationStatus.Done)
            {
                used += rune.EncodeToUtf8(room.AsSpan(used));
                i += units;
                continue;
            }
            var unit = text[i++];
            room[used++] = (byte)(0xE0 | (unit >> 12));
            room[used++] = (byte)(0x80 | ((unit >> 6) & 0x3F));
            room[used++] = (byte)(0x80 | (unit & 0x3F));
        }
        return room[..used];
    }

    /// <summary>The text of some bytes; bytes that are neither UTF-8 nor a lone surrogate become U+FFFD.</summary>
    public static string Decode(ReadOnlySpan<byte> bytes)
    {
        if (System.Text.Unicode.Utf8.IsValid(bytes))
            return Encoding.UTF8.GetString(bytes);
        var text = new StringBuilder(bytes.Length);
        while (!bytes.IsEmpty)
        {
            if (bytes.Length >= 3 && bytes[0] == 0xED && bytes[1] is >= 0xA0 and <= 0xBF && bytes[2] is >= 0x80 and <= 0xBF)
            {
                text.Append((char)(0xD000 | ((bytes[1] & 0x3F) << 6) | (bytes[2] & 0x3F)));
                bytes = bytes[3..];
                continue;
            }
            Rune.DecodeFromUtf8(bytes, out var rune, out var used);
            text.Append(rune.ToString());
            bytes = bytes[used..];
        }
        return text.ToString();
    }
}
