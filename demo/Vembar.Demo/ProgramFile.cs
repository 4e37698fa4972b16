using System.Buffers.Binary;
using System.Text;

namespace Vembar.Demo;

/// <summary>Makes program files with valid headers (PE32+ and PE32), sections and a version resource; the code is filler.</summary>
/// <remarks>Source: the vendor's "PE Format" and "VS_VERSIONINFO" documentation.</remarks>
internal static class ProgramFile
{
    public const ushort Amd64 = 0x8664, Arm64 = 0xAA64, X86 = 0x14C;
    private const int Alignment = 0x200, PageSize = 0x1000;

    /// <summary>The bytes of a program of about the given size.</summary>
    public static byte[] Make(ushort machine, bool library, bool driver, int size, ProgramInfo info, Filler filler)
    {
        var resources = Resources(info, 0);
        var codeLength = Math.Max(Alignment, (size - 0x400 - resources.Length) * 3 / 4) / Alignment * Alignment;
        var dataLength = Math.Max(Alignment, size - 0x400 - resources.Length - codeLength) / Alignment * Alignment;
        var wide = machine != X86;
        var sections = new (string Name, int Length, uint Flags)[] { (".text", codeLength, 0x60000020), (".rdata", dataLength, 0x40000040),
            (".rsrc", resources.Length, 0x40000040) };

        const int HeadersLength = 0x400, HeaderAt = 0x80;
        var raw = HeadersLength;
        var address = PageSize;
        var places = sections.Select(s =>
        {
            var place = (s.Name, s.Flags, s.Length, Raw: raw, RawLength: Up(s.Length, Alignment), Address: address);
            raw += place.RawLength;
            address += Up(s.Length, PageSize);
            return place;
        }).ToArray();
        // The resource tree holds addresses, so it is made again now that its own is known.
        resources = Resources(info, places[2].Address);
        var file = new byte[raw];
        file[0] = (byte)'M';
        file[1] = (byte)'Z';
        U32(file, 0x3C, HeaderAt);
        "This program cannot be run in DOS mode.\r\r\n$"u8.CopyTo(file.AsSpan(0x40));
        "PE\0\0"u8.CopyTo(file.AsSpan(HeaderAt));
        var coff = HeaderAt + 4;
        U16(file, coff, machine);
        U16(file, coff + 2, (ushort)sections.Length);
        U32(file, coff + 4, 0x69000000);
        var optionalLength = wide ? 240 : 224;
        U16(file, coff + 16, (ushort)optionalLength);
        U16(file, coff + 18, (ushort)(0x0002 | (wide ? 0x0020 : 0x0100) | (library && !driver ? 0x2000 : 0)));
        var optional = coff + 20;
        U16(file, optional, (ushort)(wide ? 0x20B : 0x10B));
        file[optional + 2] = 14;
        U32(file, optional + 4, (uint)places[0].RawLength);
        U32(file, optional + 8, (uint)(places[1].RawLength + places[2].RawLength));
        U32(file, optional + 16, (uint)places[0].Address);
        U32(file, optional + 20, (uint)places[0].Address);
        if (wide)
            BinaryPrimitives.WriteUInt64LittleEndian(file.AsSpan(optional + 24), 0x180000000);
        else
        {
            U32(file, optional + 24, (uint)places[1].Address);
            U32(file, optional + 28, 0x10000000);
        }
        U32(file, optional + 32, PageSize);
        U32(file, optional + 36, Alignment);
        U16(file, optional + 40, 10);
        U16(file, optional + 48, 10);
        U32(file, optional + 56, (uint)address);
        U32(file, optional + 60, HeadersLength);
        U16(file, optional + 68, (ushort)(driver ? 1 : library ? 2 : 3));
        U16(file, optional + 70, 0x4160);
        var directories = optional + (wide ? 108 : 92);
        U32(file, directories, 16);
        U32(file, directories + 4 + 2 * 8, (uint)places[2].Address);
        U32(file, directories + 8 + 2 * 8, (uint)resources.Length);
        var table = optional + optionalLength;
        foreach (var place in places)
        {
            Encoding.ASCII.GetBytes(place.Name, file.AsSpan(table));
            U32(file, table + 8, (uint)place.Length);
            U32(file, table + 12, (uint)place.Address);
            U32(file, table + 16, (uint)place.RawLength);
            U32(file, table + 20, (uint)place.Raw);
            U32(file, table + 36, place.Flags);
            table += 40;
        }
        filler.Code(file.AsSpan(places[0].Raw, places[0].Length));
        // Read-only data: texts first, then tables.
        var text = Encoding.Unicode.GetBytes(filler.Text(places[1].Length / 4));
        text.CopyTo(file.AsSpan(places[1].Raw));
        filler.Code(file.AsSpan(places[1].Raw + text.Length, places[1].Length - text.Length));
        resources.CopyTo(file.AsSpan(places[2].Raw));
        return file;
    }

    private static int Up(int value, int to) => (value + to - 1) / to * to;

    private static void U16(byte[] file, int at, ushort value) => BinaryPrimitives.WriteUInt16LittleEndian(file.AsSpan(at), value);

    private static void U32(byte[] file, int at, uint value) => BinaryPrimitives.WriteUInt32LittleEndian(file.AsSpan(at), value);

    // Type 16 (version), name 1, language en-GB, then the data.
    private static byte[] Resources(ProgramInfo info, int address)
    {
        const int Version = 16, Language = 0x0809, DataAt = 0x60;
        var version = VersionInfo(info);
        var bytes = new byte[DataAt + version.Length];
        void Level(int at, uint id, uint next)
        {
            U16(bytes, at + 14, 1);
            U32(bytes, at + 16, id);
            U32(bytes, at + 20, next);
        }
        Level(0, Version, 0x80000018);
        Level(0x18, 1, 0x80000030);
        Level(0x30, Language, 0x48);
        U32(bytes, 0x48, (uint)(address + DataAt));
        U32(bytes, 0x4C, (uint)version.Length);
        version.CopyTo(bytes, DataAt);
        return bytes;
    }

    private static byte[] VersionInfo(ProgramInfo info)
    {
        var v = info.Version;
        var high = ((uint)v.Major << 16) | (uint)v.Minor;
        var low = ((uint)v.Build << 16) | (uint)Math.Max(v.Revision, 0);
        var numbers = new byte[52];
        uint[] fields = [0xFEEF04BD, 0x00010000, high, low, high, low, 0x3F, 0, 0x00040004, 2, 0, 0, 0];
        for (var i = 0; i < fields.Length; i++)
            U32(numbers, 4 * i, fields[i]);
        (string Key, string Value)[] texts =
        [
            ("CompanyName", info.Company), ("FileDescription", info.Description), ("FileVersion", v.ToString()),
            ("OriginalFilename", info.FileName), ("ProductName", info.Product), ("ProductVersion", v.ToString()),
        ];
        var table = Node("080904B0", [], true, [.. texts.Select(t => Node(t.Key, Encoding.Unicode.GetBytes(t.Value + "\0"), true, []))]);
        var translation = Node("Translation", [0x09, 0x08, 0xB0, 0x04], false, []);
        return Node("VS_VERSION_INFO", numbers, false,
            [Node("StringFileInfo", [], true, [table]), Node("VarFileInfo", [], true, [translation])]);
    }

    // Length, value length (in words for text), type, key, value, children; each part on a multiple of four.
    private static byte[] Node(string key, byte[] value, bool isText, byte[][] children)
    {
        var bytes = new List<byte>(new byte[6]);
        void Fill()
        {
            while (bytes.Count % 4 != 0)
                bytes.Add(0);
        }
        bytes.AddRange(Encoding.Unicode.GetBytes(key + "\0"));
        Fill();
        bytes.AddRange(value);
        foreach (var child in children)
        {
            Fill();
            bytes.AddRange(child);
        }
        var node = bytes.ToArray();
        U16(node, 0, (ushort)node.Length);
        U16(node, 2, (ushort)(isText ? value.Length / 2 : value.Length));
        U16(node, 4, (ushort)(isText ? 1 : 0));
        return node;
    }
}
