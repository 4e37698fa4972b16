using System.Buffers.Binary;
using Vembar.Images.Nodes;

namespace Vembar.Volumes.Sources;

/// <summary>The list of extended attributes as NTFS keeps it ($EA): FILE_FULL_EA_INFORMATION records (MS-FSCC 2.4.16).</summary>
internal static class ExtendedAttributeList
{
    /// <summary>The list as bytes.</summary>
    public static byte[] Encode(IReadOnlyList<NamedValue> values)
    {
        var bytes = new List<byte>();
        for (var i = 0; i < values.Count; i++)
        {
            var name = System.Text.Encoding.Latin1.GetBytes(values[i].Name);
            var record = new byte[(8 + name.Length + 1 + values[i].Value.Length + 3) / 4 * 4];
            // On the volume the last record too says where it ends.
            BinaryPrimitives.WriteInt32LittleEndian(record, record.Length);
            record[4] = values[i].Flags;
            record[5] = (byte)name.Length;
            BinaryPrimitives.WriteUInt16LittleEndian(record.AsSpan(6), (ushort)values[i].Value.Length);
            name.CopyTo(record, 8);
            values[i].Value.CopyTo(record, 9 + name.Length);
            bytes.AddRange(record);
        }
        return [.. bytes];
    }

    /// <summary>The attributes; what does not fit the format is passed over.</summary>
    public static IReadOnlyList<NamedValue> Parse(byte[]? bytes)
    {
        var list = new List<NamedValue>();
        for (var at = 0; bytes is not null && at + 8 <= bytes.Length;)
        {
            var record = bytes.AsSpan(at);
            var next = BinaryPrimitives.ReadUInt32LittleEndian(record);
            int nameLength = record[5], valueLength = BinaryPrimitives.ReadUInt16LittleEndian(record[6..]);
            if (8 + nameLength + 1 + valueLength > record.Length)
                break;
            list.Add(new NamedValue(System.Text.Encoding.Latin1.GetString(record.Slice(8, nameLength)),
                record.Slice(9 + nameLength, valueLength).ToArray(), record[4]));
            if (next == 0 || next > (uint)record.Length)
                break;
            at += (int)next;
        }
        return list;
    }
}
