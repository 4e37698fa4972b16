using System.Buffers.Binary;
using System.Text;
using Microsoft.Win32.SafeHandles;
using Vembar.Native;

namespace Vembar.Core.Windows;

/// <summary>Types of registry values (winnt.h).</summary>
public enum RegistryType
{
    /// <summary>No type.</summary>
    None = 0,
    /// <summary>REG_SZ.</summary>
    String = 1,
    /// <summary>REG_EXPAND_SZ.</summary>
    ExpandString = 2,
    /// <summary>REG_BINARY.</summary>
    Binary = 3,
    /// <summary>REG_DWORD.</summary>
    Dword = 4,
    /// <summary>REG_MULTI_SZ.</summary>
    MultiString = 7,
    /// <summary>REG_QWORD.</summary>
    Qword = 11,
}

/// <summary>A registry hive in memory, to read and, when opened so, to change. One thread at a time.</summary>
public sealed class RegistryHive : IDisposable
{
    /// <summary>No hive longer than this is opened, in bytes.</summary>
    public const long Longest = 1L << 30;

    private readonly Hivex _hive;
    private readonly SafeFileHandle _memory;
    private readonly string _shown;

    private RegistryHive(Hivex hive, SafeFileHandle memory, string shown)
    {
        _hive = hive;
        _memory = memory;
        _shown = shown;
    }

    /// <summary>Opens a hive from its bytes.</summary>
    /// <param name="bytes">The file's bytes.</param>
    /// <param name="write">Whether it will be changed.</param>
    /// <param name="shown">What it is, for messages.</param>
    /// <exception cref="VembarException">It is not a hive or damaged, or the library is missing.</exception>
    public static RegistryHive Open(ReadOnlySpan<byte> bytes, bool write, string shown)
    {
        if (bytes.Length < 4096 || !bytes.StartsWith("regf"u8))
            throw VembarException.Input("bad-hive", $"{shown} is not a registry hive", "Take the file from another copy of the install.");
        var memory = Posix.MemoryFile(out var path);
        try
        {
            Posix.Write(memory, bytes, 0);
            return new RegistryHive(Hivex.Open(path, write), memory, shown);
        }
        catch (Exception failure)
        {
            memory.Dispose();
            throw failure is NativeException
                ? VembarException.Input("bad-hive", $"{shown} is a damaged registry hive", "Take the file from another copy of the install.")
                : VembarException.From(failure, "open", shown) ?? failure;
        }
    }

    /// <summary>The root key.</summary>
    public RegistryKey Root => new(this, _hive.Root);

    /// <summary>The key at a path of names separated by '\', or null.</summary>
    public RegistryKey? Key(string path) => Root.Key(path);

    /// <summary>The hive's bytes with all changes.</summary>
    public byte[] ToBytes()
    {
        using var memory = Posix.MemoryFile(out var path);
        Guard(() => _hive.Commit(path));
        var bytes = new byte[RandomAccess.GetLength(memory)];
        Posix.Read(memory, bytes, 0);
        return bytes;
    }

    internal Hivex Native => _hive;

    internal T Guard<T>(Func<T> work)
    {
        try
        {
            return work();
        }
        catch (NativeException failure)
        {
            throw VembarException.Input("bad-hive", $"{_shown} is a damaged registry hive: {failure.Message}", "Take the file from another copy of the install.");
        }
    }

    internal void Guard(Action work) => Guard(() =>
    {
        work();
        return 0;
    });

    /// <inheritdoc/>
    public void Dispose()
    {
        _hive.Dispose();
        _memory.Dispose();
    }

    /// <summary>The bytes of a hive that holds nothing but a root key, which Windows and administrators own and users may read.</summary>
    /// <param name="rootName">The root key's name, in ASCII.</param>
    /// <remarks>Source: "Windows registry file format specification" (Suhanov), sections "Base block", "Hive bin", "Key node", "Key security".</remarks>
    public static byte[] NewEmpty(string rootName = "ROOT")
    {
        const int Base = 4096, Bin = 4096, First = 32;
        const uint None = 0xFFFFFFFF;
        var hive = new byte[Base + Bin];
        var time = new DateTime(2026, 1, 1, 0, 0, 0, DateTimeKind.Utc).ToFileTimeUtc();
        var name = Encoding.ASCII.GetBytes(rootName);
        static void U16(Span<byte> at, int value) => BinaryPrimitives.WriteUInt16LittleEndian(at, (ushort)value);
        static void U32(Span<byte> at, uint value) => BinaryPrimitives.WriteUInt32LittleEndian(at, value);

        var head = hive.AsSpan(0, Base);
        "regf"u8.CopyTo(head);
        U32(head[4..], 1);
        U32(head[8..], 1);
        BinaryPrimitives.WriteInt64LittleEndian(head[12..], time);
        U32(head[20..], 1);
        U32(head[24..], 5);
        U32(head[32..], 1);
        U32(head[36..], First);
        U32(head[40..], Bin);
        U32(head[44..], 1);
        uint sum = 0;
        for (var i = 0; i < 508; i += 4)
            sum ^= BinaryPrimitives.ReadUInt32LittleEndian(head[i..]);
        U32(head[508..], sum switch { 0 => 1, None => None - 1, _ => sum });

        var bin = hive.AsSpan(Base, Bin);
        "hbin"u8.CopyTo(bin);
        U32(bin[8..], Bin);
        BinaryPrimitives.WriteInt64LittleEndian(bin[20..], time);

        var keyLength = (4 + 76 + name.Length + 7) / 8 * 8;
        var descriptor = KeySecurity();
        var securityAt = First + keyLength;
        var securityLength = (4 + 20 + descriptor.Length + 7) / 8 * 8;
        var key = bin[First..];
        BinaryPrimitives.WriteInt32LittleEndian(key, -keyLength);
        key = key[4..];
        "nk"u8.CopyTo(key);
        U16(key[2..], 0x2C);
        BinaryPrimitives.WriteInt64LittleEndian(key[4..], time);
        U32(key[16..], None);
        U32(key[28..], None);
        U32(key[32..], None);
        U32(key[40..], None);
        U32(key[44..], (uint)securityAt);
        U32(key[48..], None);
        U16(key[72..], name.Length);
        name.CopyTo(key[76..]);

        var security = bin[securityAt..];
        BinaryPrimitives.WriteInt32LittleEndian(security, -securityLength);
        security = security[4..];
        "sk"u8.CopyTo(security);
        U32(security[4..], (uint)securityAt);
        U32(security[8..], (uint)securityAt);
        U32(security[12..], 1);
        U32(security[16..], (uint)descriptor.Length);
        descriptor.CopyTo(security[20..]);

        var free = securityAt + securityLength;
        BinaryPrimitives.WriteInt32LittleEndian(bin[free..], Bin - free);
        return hive;
    }

    // A self-relative security descriptor (MS-DTYP 2.4.6): SYSTEM and Administrators all, Users read; handed down to subkeys.
    private static byte[] KeySecurity()
    {
        byte[] system = [1, 1, 0, 0, 0, 0, 0, 5, 18, 0, 0, 0];
        byte[] administrators = [1, 2, 0, 0, 0, 0, 0, 5, 32, 0, 0, 0, 0x20, 2, 0, 0];
        byte[] users = [1, 2, 0, 0, 0, 0, 0, 5, 32, 0, 0, 0, 0x21, 2, 0, 0];
        static byte[] Allow(uint rights, byte[] who) => [0, 2, (byte)(8 + who.Length), 0, .. BitConverter.GetBytes(rights), .. who];
        const uint AllRights = 0xF003F, ReadRights = 0x20019;
        byte[] entries = [.. Allow(AllRights, system), .. Allow(AllRights, administrators), .. Allow(ReadRights, users)];
        byte[] list = [2, 0, (byte)(8 + entries.Length), 0, 3, 0, 0, 0, .. entries];
        const int HeadLength = 20;
        byte[] head = [1, 0, 0x04, 0x80, .. BitConverter.GetBytes(HeadLength + list.Length), .. BitConverter.GetBytes(HeadLength + list.Length + administrators.Length), 0, 0, 0, 0, .. BitConverter.GetBytes(HeadLength)];
        return [.. head, .. list, .. administrators, .. system];
    }
}

/// <summary>A key of a hive.</summary>
public sealed class RegistryKey
{
    private readonly RegistryHive _hive;
    private readonly nuint _node;

    internal RegistryKey(RegistryHive hive, nuint node)
    {
        _hive = hive;
        _node = node;
    }

    /// <summary>The key's name.</summary>
    public string Name => _hive.Guard(() => _hive.Native.KeyName(_node));

    /// <summary>Whether it has the same values and keys below it, whatever their order and times.</summary>
    public bool SaysTheSameAs(RegistryKey other)
    {
        var values = Values;
        var others = other.Values;
        if (values.Count != others.Count)
            return false;
        var byName = others.ToDictionary(v => v.Name, StringComparer.OrdinalIgnoreCase);
        if (!values.All(v => byName.TryGetValue(v.Name, out var o) && o.Name == v.Name && o.Type == v.Type && o.Bytes.AsSpan().SequenceEqual(v.Bytes)))
            return false;
        var keys = Subkeys;
        var otherKeys = other.Subkeys.ToDictionary(k => k.Name, StringComparer.OrdinalIgnoreCase);
        return keys.Count == otherKeys.Count && keys.All(k => otherKeys.TryGetValue(k.Name, out var o) && o.Name == k.Name && k.SaysTheSameAs(o));
    }

    /// <summary>The keys below it.</summary>
    public IReadOnlyList<RegistryKey> Subkeys => _hive.Guard(() => _hive.Native.Subkeys(_node)).ConvertAll(n => new RegistryKey(_hive, n));

    /// <summary>Its values by name; "" is the default value.</summary>
    public IReadOnlyList<(string Name, RegistryType Type, byte[] Bytes)> Values => _hive.Guard(() => _hive.Native.Values(_node).ConvertAll(v =>
    {
        var (type, bytes) = _hive.Native.ValueData(v);
        return (_hive.Native.ValueName(v), (RegistryType)type, bytes);
    }));

    /// <summary>The key below it at a path of names separated by '\', or null.</summary>
    public RegistryKey? Key(string path)
    {
        var node = _node;
        foreach (var name in path.Split('\\', StringSplitOptions.RemoveEmptyEntries))
        {
            node = Subkey(node, name);
            if (node == 0)
                return null;
        }
        return new RegistryKey(_hive, node);
    }

    /// <summary>The key below it at a path, made where it is missing.</summary>
    public RegistryKey Ensure(string path)
    {
        var node = _node;
        foreach (var name in path.Split('\\', StringSplitOptions.RemoveEmptyEntries))
        {
            var there = Subkey(node, name);
            node = there != 0 ? there : _hive.Guard(() => _hive.Native.AddSubkey(node, name));
        }
        return new RegistryKey(_hive, node);
    }

    // The library compares only ASCII without case.
    private nuint Subkey(nuint key, string name) => _hive.Guard(() => _hive.Native.Subkey(key, name) is var found && (found != 0 || Ascii.IsValid(name))
        ? found : _hive.Native.Subkeys(key).FirstOrDefault(k => _hive.Native.KeyName(k).Equals(name, StringComparison.OrdinalIgnoreCase)));

    /// <summary>Removes this key with all below it; it must not be used any more.</summary>
    public void Delete() => _hive.Guard(() => _hive.Native.DeleteKey(_node));

    /// <summary>Removes a value; nothing happens when there is none.</summary>
    public void DeleteValue(string name)
    {
        var values = Values;
        var others = values.Where(v => !v.Name.Equals(name, StringComparison.OrdinalIgnoreCase)).Select(v => (v.Name, (int)v.Type, v.Bytes)).ToList();
        if (others.Count < values.Count)
            _hive.Guard(() => _hive.Native.SetValues(_node, others));
    }

    /// <summary>A value's type and bytes, or null.</summary>
    public (RegistryType Type, byte[] Bytes)? Get(string name) => _hive.Guard<(RegistryType, byte[])?>(() =>
    {
        var value = _hive.Native.Value(_node, name);
        if (value == 0 && !Ascii.IsValid(name))
            value = _hive.Native.Values(_node).FirstOrDefault(v => _hive.Native.ValueName(v).Equals(name, StringComparison.OrdinalIgnoreCase));
        if (value == 0)
            return null;
        var (type, bytes) = _hive.Native.ValueData(value);
        return ((RegistryType)type, bytes);
    });

    /// <summary>A text value, or null when it is missing or no text.</summary>
    public string? GetString(string name) => Get(name) is (RegistryType.String or RegistryType.ExpandString, var bytes) ? Text(bytes) : null;

    /// <summary>A list of texts, or null.</summary>
    public IReadOnlyList<string>? GetStrings(string name) =>
        Get(name) is (RegistryType.MultiString, var bytes) ? Encoding.Unicode.GetString(bytes).Split('\0', StringSplitOptions.RemoveEmptyEntries) : null;

    /// <summary>A 32-bit number, or null.</summary>
    public uint? GetDword(string name) => Get(name) is (RegistryType.Dword, { Length: >= 4 } bytes) ? BinaryPrimitives.ReadUInt32LittleEndian(bytes) : null;

    private static string Text(byte[] bytes)
    {
        var text = Encoding.Unicode.GetString(bytes);
        var end = text.IndexOf('\0');
        return end < 0 ? text : text[..end];
    }

    /// <summary>Sets a value.</summary>
    public void Set(string name, RegistryType type, ReadOnlySpan<byte> bytes)
    {
        var copy = bytes.ToArray();
        _hive.Guard(() => _hive.Native.SetValue(_node, name, (int)type, copy));
    }

    /// <summary>Sets a text value.</summary>
    public void SetString(string name, string text, RegistryType type = RegistryType.String) => Set(name, type, Encoding.Unicode.GetBytes(text + "\0"));

    /// <summary>Sets a list of texts.</summary>
    public void SetStrings(string name, IEnumerable<string> texts) => Set(name, RegistryType.MultiString, Encoding.Unicode.GetBytes(string.Concat(texts.Select(t => t + "\0")) + "\0"));

    /// <summary>Sets a 32-bit number.</summary>
    public void SetDword(string name, uint value) => Set(name, RegistryType.Dword, BitConverter.GetBytes(value));
}
