using System.Buffers;
using System.Text;

namespace Vembar.Native;

/// <summary>
/// File names of Linux (bytes) as strings and back, without loss. Bytes that are not UTF-8 become the lone surrogates
/// U+DC80..U+DCFF (the convention of Python's PEP 383), so that every name that Linux allows has a string of its own.
/// </summary>
public static class PosixName
{
    /// <summary>The string for a name's bytes.</summary>
    public static string Decode(ReadOnlySpan<byte> bytes)
    {
        if (System.Text.Unicode.Utf8.IsValid(bytes))
            return Encoding.UTF8.GetString(bytes);
        var text = new StringBuilder(bytes.Length);
        while (!bytes.IsEmpty)
        {
            if (Rune.DecodeFromUtf8(bytes, out var rune, out var used) == OperationStatus.Done)
            {
                text.Append(rune.ToString());
                bytes = bytes[used..];
            }
            else
            {
                text.Append((char)(0xDC00 + bytes[0]));
                bytes = bytes[1..];
            }
        }
        return text.ToString();
    }

    /// <summary>The bytes for a string, with a NUL at the end.</summary>
    /// <returns>False when the string holds a NUL, or a lone surrogate that stands for no byte.</returns>
    public static bool TryEncode(string name, out byte[] bytes)
    {
        bytes = [];
        if (name.Contains('\0'))
            return false;
        if (IsSimple(name))
        {
            bytes = new byte[Encoding.UTF8.GetByteCount(name) + 1];
            Encoding.UTF8.GetBytes(name, bytes);
            return true;
        }
        var room = new byte[Encoding.UTF8.GetMaxByteCount(name.Length) + 1];
        var used = 0;
        for (var i = 0; i < name.Length;)
        {
            if (Rune.DecodeFromUtf16(name.AsSpan(i), out var rune, out var units) == OperationStatus.Done)
            {
                used += rune.EncodeToUtf8(room.AsSpan(used));
                i += units;
            }
            else if (name[i] is >= '\uDC80' and <= '\uDCFF')
                room[used++] = (byte)(name[i++] - 0xDC00);
            else
                return false;
        }
        bytes = room[..(used + 1)];
        return true;
    }

    /// <summary>How many bytes a name takes, the NUL at the end included; 0 when it cannot be written on Linux.</summary>
    public static int Length(string name) =>
        IsSimple(name) ? Encoding.UTF8.GetByteCount(name) + 1 : TryEncode(name, out var bytes) ? bytes.Length : 0;

    /// <summary>Puts a name's bytes somewhere, without the NUL at the end.</summary>
    /// <returns>How many they are.</returns>
    /// <exception cref="NativeException">The name cannot be written on Linux.</exception>
    public static int Put(string name, Span<byte> to)
    {
        if (IsSimple(name))
            return Encoding.UTF8.GetBytes(name, to);
        var bytes = Encode(name).AsSpan()[..^1];
        bytes.CopyTo(to);
        return bytes.Length;
    }

    // Whether its bytes are its UTF-8.
    private static bool IsSimple(string name) => name.AsSpan().IndexOfAnyInRange('\uD800', '\uDFFF') < 0 && !name.Contains('\0');

    /// <summary>The bytes for a string, with a NUL at the end.</summary>
    /// <exception cref="NativeException">The name cannot be written on Linux.</exception>
    public static byte[] Encode(string name) =>
        TryEncode(name, out var bytes) ? bytes : throw new NativeException("use the name", name, Errno.Invalid);
}
