using System.Runtime.InteropServices;
using System.Text;

namespace Vembar.Native;

/// <summary>
/// A registry hive (regf) opened with libhivex. The library works on a path and keeps the hive in memory;
/// changes reach a file with <see cref="Commit"/>. Not for use by two threads at once.
/// </summary>
public sealed unsafe partial class Hivex : IDisposable
{
    private const string Library = "libhivex.so.0";
    [LibraryImport(Library, SetLastError = true)] private static partial nint hivex_open(byte* path, int flags);
    [LibraryImport(Library, SetLastError = true)] private static partial int hivex_close(nint hive);
    [LibraryImport(Library, SetLastError = true)] private static partial nuint hivex_root(nint hive);
    [LibraryImport(Library, SetLastError = true)] private static partial byte* hivex_node_name(nint hive, nuint node);
    [LibraryImport(Library, SetLastError = true)] private static partial nuint* hivex_node_children(nint hive, nuint node);
    [LibraryImport(Library, SetLastError = true)] private static partial nuint hivex_node_get_child(nint hive, nuint node, byte* name);
    [LibraryImport(Library, SetLastError = true)] private static partial nuint* hivex_node_values(nint hive, nuint node);
    [LibraryImport(Library, SetLastError = true)] private static partial byte* hivex_value_key(nint hive, nuint value);
    [LibraryImport(Library, SetLastError = true)] private static partial byte* hivex_value_value(nint hive, nuint value, int* type, nuint* length);
    [LibraryImport(Library, SetLastError = true)] private static partial nuint hivex_node_get_value(nint hive, nuint node, byte* key);
    [LibraryImport(Library, SetLastError = true)] private static partial nuint hivex_node_add_child(nint hive, nuint node, byte* name);
    [LibraryImport(Library, SetLastError = true)] private static partial int hivex_node_delete_child(nint hive, nuint node);
    [LibraryImport(Library, SetLastError = true)] private static partial int hivex_node_set_value(nint hive, nuint node, SetValueArgument* value, int flags);
    [LibraryImport(Library, SetLastError = true)] private static partial int hivex_node_set_values(nint hive, nuint node, nuint count, SetValueArgument* values, int flags);
    [LibraryImport(Library, SetLastError = true)] private static partial int hivex_commit(nint hive, byte* path, int flags);
    [LibraryImport("libc")] private static partial void free(void* memory);

    // struct hive_set_value of hivex.h
    [StructLayout(LayoutKind.Sequential)]
    private struct SetValueArgument
    {
        public byte* Key;
        public int Type;
        public nuint Length;
        public byte* Value;
    }

    private nint _hive;

    private Hivex(nint hive) => _hive = hive;

    /// <summary>Opens a hive.</summary>
    /// <param name="path">A file's path.</param>
    /// <param name="write">Whether changes may be made (in memory, until <see cref="Commit"/>).</param>
    /// <exception cref="NativeException">It is not a hive, or damaged.</exception>
    public static Hivex Open(string path, bool write)
    {
        fixed (byte* p = PosixName.Encode(path))
        {
            var hive = hivex_open(p, write ? 4 : 0);
            return hive != 0 ? new Hivex(hive) : throw Fail("open the hive");
        }
    }

    private static NativeException Fail(string operation) => new(operation, "", Marshal.GetLastPInvokeError());

    private nint Handle => _hive != 0 ? _hive : throw new ObjectDisposedException(nameof(Hivex));

    private static string Text(byte* text) => Encoding.UTF8.GetString(MemoryMarshal.CreateReadOnlySpanFromNullTerminated(text));

    private static byte[] Name(string name) => [.. Encoding.UTF8.GetBytes(name), 0];

    /// <summary>The root key.</summary>
    public nuint Root => hivex_root(Handle) is not 0 and var root ? root : throw Fail("find the root key");

    /// <summary>A key's name.</summary>
    public string KeyName(nuint key)
    {
        var text = hivex_node_name(Handle, key);
        if (text is null)
            throw Fail("read a key's name");
        var name = Text(text);
        free(text);
        return name;
    }

    /// <summary>The keys below a key.</summary>
    public List<nuint> Subkeys(nuint key) => Take(hivex_node_children(Handle, key), "list the keys");

    /// <summary>The values of a key.</summary>
    public List<nuint> Values(nuint key) => Take(hivex_node_values(Handle, key), "list the values");

    private static List<nuint> Take(nuint* list, string operation)
    {
        if (list is null)
            throw Fail(operation);
        var items = new List<nuint>();
        for (var i = list; *i != 0; i++)
            items.Add(*i);
        free(list);
        return items;
    }

    /// <summary>The key of a name below a key (compared without case), or 0.</summary>
    public nuint Subkey(nuint key, string name)
    {
        fixed (byte* n = Name(name))
        {
            Marshal.SetLastPInvokeError(0);
            return hivex_node_get_child(Handle, key, n);
        }
    }

    /// <summary>The value of a name in a key (compared without case; "" is the default value), or 0.</summary>
    public nuint Value(nuint key, string name)
    {
        fixed (byte* n = Name(name))
            return hivex_node_get_value(Handle, key, n);
    }

    /// <summary>A value's name; "" for the default value.</summary>
    public string ValueName(nuint value)
    {
        var text = hivex_value_key(Handle, value);
        if (text is null)
            throw Fail("read a value's name");
        var name = Text(text);
        free(text);
        return name;
    }

    /// <summary>A value's type number and bytes.</summary>
    public (int Type, byte[] Bytes) ValueData(nuint value)
    {
        int type;
        nuint length;
        var bytes = hivex_value_value(Handle, value, &type, &length);
        if (bytes is null)
            throw Fail("read a value");
        var data = new ReadOnlySpan<byte>(bytes, checked((int)length)).ToArray();
        free(bytes);
        return (type, data);
    }

    /// <summary>Adds a key that is not there yet.</summary>
    public nuint AddSubkey(nuint key, string name)
    {
        fixed (byte* n = Name(name))
            return hivex_node_add_child(Handle, key, n) is not 0 and var child ? child : throw Fail($"add the key '{name}'");
    }

    /// <summary>Removes a key with all below it.</summary>
    public void DeleteKey(nuint key)
    {
        if (hivex_node_delete_child(Handle, key) != 0)
            throw Fail("remove a key");
    }

    /// <summary>Sets one value; the others stay.</summary>
    public void SetValue(nuint key, string name, int type, ReadOnlySpan<byte> bytes)
    {
        // The library wants an address also where there are no bytes.
        var data = bytes.IsEmpty ? new byte[1] : bytes.ToArray();
        fixed (byte* n = Name(name), d = data)
        {
            var argument = new SetValueArgument { Key = n, Type = type, Length = (nuint)bytes.Length, Value = d };
            if (hivex_node_set_value(Handle, key, &argument, 0) != 0)
                throw Fail($"set the value '{name}'");
        }
    }

    /// <summary>Replaces all values of a key.</summary>
    public void SetValues(nuint key, IReadOnlyList<(string Name, int Type, byte[] Bytes)> values)
    {
        var arguments = new SetValueArgument[Math.Max(values.Count, 1)];
        var pins = new List<GCHandle>();
        try
        {
            byte* Pin(byte[] bytes)
            {
                var pin = GCHandle.Alloc(bytes.Length == 0 ? new byte[1] : bytes, GCHandleType.Pinned);
                pins.Add(pin);
                return (byte*)pin.AddrOfPinnedObject();
            }
            for (var i = 0; i < values.Count; i++)
                arguments[i] = new SetValueArgument { Key = Pin(Name(values[i].Name)), Type = values[i].Type, Length = (nuint)values[i].Bytes.Length, Value = Pin(values[i].Bytes) };
            fixed (SetValueArgument* a = arguments)
            {
                if (hivex_node_set_values(Handle, key, (nuint)values.Count, a, 0) != 0)
                    throw Fail("set the values of a key");
            }
        }
        finally
        {
            foreach (var pin in pins)
                pin.Free();
        }
    }

    /// <summary>Writes the hive, with all changes, to a file.</summary>
    public void Commit(string path)
    {
        fixed (byte* p = PosixName.Encode(path))
        {
            if (hivex_commit(Handle, p, 0) != 0)
                throw Fail("write the hive");
        }
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        Free();
        GC.SuppressFinalize(this);
    }

    /// <summary>Frees the library's memory.</summary>
    ~Hivex() => Free();

    private void Free()
    {
        if (_hive != 0)
            _ = hivex_close(_hive);
        _hive = 0;
    }
}
