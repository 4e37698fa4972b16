using System.Buffers.Binary;

namespace Vembar.Fuzz;

/// <summary>Makes inputs out of sound ones: bits and bytes changed, numbers that parsers fear, parts cut out, doubled or taken from
/// another.</summary>
/// <param name="inputs">The sound ones.</param>
/// <param name="random">Where chance comes from.</param>
internal sealed class Mutator(IReadOnlyList<byte[]> inputs, Random random)
{
    private static readonly int[] s_feared =
        [0, 1, -1, 7, 8, 255, 256, 4095, 4096, 65535, int.MaxValue, int.MinValue, 0x7FFFFFF8, 1 << 20, -8];
    private int _given;

    /// <summary>The next input.</summary>
    public byte[] Next()
    {
        if (_given < inputs.Count)
            return inputs[_given++];
        var bytes = (byte[])inputs[random.Next(inputs.Count)].Clone();
        for (var changes = random.Next(1, 8); changes > 0; changes--)
            bytes = Change(bytes);
        return bytes;
    }

    private byte[] Change(byte[] bytes)
    {
        if (bytes.Length < 8)
            return [.. bytes, .. BitConverter.GetBytes(random.NextInt64())];
        var at = random.Next(bytes.Length);
        switch (random.Next(8))
        {
            case 0:
                bytes[at] ^= (byte)(1 << random.Next(8));
                return bytes;
            case 1:
                bytes[at] = (byte)random.Next(256);
                return bytes;
            case 2 or 3:
                BinaryPrimitives.WriteInt32LittleEndian(bytes.AsSpan(Math.Min(at, bytes.Length - 4)),
                    s_feared[random.Next(s_feared.Length)]);
                return bytes;
            case 4:
                return bytes[..at];
            case 5:
                var count = Math.Min(random.Next(1, 64), bytes.Length - at);
                return [.. bytes[..at], .. bytes[(at + count)..]];
            case 6:
                var length = Math.Min(random.Next(1, 64), bytes.Length - at);
                return [.. bytes[..(at + length)], .. bytes[at..]];
            default:
                var other = inputs[random.Next(inputs.Count)];
                var from = random.Next(other.Length);
                var part = other.AsSpan(from, Math.Min(random.Next(1, 256), other.Length - from));
                part[..Math.Min(part.Length, bytes.Length - at)].CopyTo(bytes.AsSpan(at));
                return bytes;
        }
    }
}
