using System.Buffers.Binary;
using System.Text;
using Vembar.Common;
using Vembar.Common.Formats;
using Vembar.Windows.Registry.Hives;

namespace Vembar.Windows.Registry;

/// <summary>A key of a hive.</summary>
public sealed class RegistryKey
{
    private readonly RegistryHive _hive;
    private readonly int _cell;

    internal RegistryKey(RegistryHive hive, int cell)
    {
        _hive = hive;
        _cell = cell;
    }

    private HiveImage Image => _hive.Image;

    /// <summary>The key's name.</summary>
    public string Name => _hive.Guard(() => KeyCell.At(Image, _cell).Name, () => "");

    /// <summary>Whether it has the same values and keys below it, whatever their order and times.</summary>
    public bool ContentEquals(RegistryKey other) => _hive.Guard(() => HiveComparison.Same(Image, _cell, other.Image, other._cell, 0));

    /// <summary>The keys below it.</summary>
    public IReadOnlyList<RegistryKey> Subkeys =>
        _hive.Guard(() => HiveReader.Subkeys(Image, _cell), () => HiveReader.SoundSubkeys(Image, _cell))
        .ConvertAll(cell => new RegistryKey(_hive, cell));

    /// <summary>Its values by name; "" is the default value.</summary>
    public IReadOnlyList<(string Name, RegistryType Type, byte[] Bytes)> Values => _hive.Guard(() =>
    {
        var values = new List<(string, RegistryType, byte[])>();
        foreach (var cell in HiveReader.Values(Image, _cell))
        {
            try
            {
                var value = ValueCell.At(Image, cell);
                values.Add((value.Name, (RegistryType)value.Type, HiveReader.Data(Image, cell)));
            }
            catch (BinaryFormatException problem) when (_hive.PassesOver(problem))
            {
                // The others may be sound.
            }
        }
        return values;
    }, () => []);

    /// <summary>The key below it at a path of names separated by '\\', or null.</summary>
    public RegistryKey? Key(string path) => _hive.Guard(() =>
    {
        var cell = _cell;
        foreach (var name in Parts(path))
        {
            cell = HiveReader.FindSubkey(Image, cell, HiveText.Upper(name));
            if (cell == HiveImage.None)
                return null;
        }
        return new RegistryKey(_hive, cell);
    }, () => FindBySound(path));

    // One by one: in a damaged list what is sought may be where it is not looked for.
    private RegistryKey? FindBySound(string path)
    {
        var key = this;
        foreach (var name in Parts(path))
        {
            key = key.Subkeys.FirstOrDefault(k => k.Name.Equals(name, StringComparison.OrdinalIgnoreCase));
            if (key is null)
                return null;
        }
        return key;
    }

    /// <summary>The key below it at a path, made where it is missing.</summary>
    /// <exception cref="VembarException">A name is longer than 255 characters, or the keys would be too deep.</exception>
    public RegistryKey Ensure(string path) => _hive.Guard(() =>
    {
        var cell = _cell;
        foreach (var name in Parts(path))
        {
            var there = HiveReader.FindSubkey(Image, cell, HiveText.Upper(name));
            cell = there != HiveImage.None ? there : Add(cell, name);
        }
        return new RegistryKey(_hive, cell);
    });

    private static string[] Parts(string path) => path.Split('\\', StringSplitOptions.RemoveEmptyEntries);

    private int Add(int parent, string name)
    {
        if (KeyNameProblem(name) is { } problem)
            throw VembarException.Input("bad-key", problem, "Choose a shorter name.");
        var depth = 1;
        for (var cell = parent; cell != Image.Root; cell = KeyCell.At(Image, cell).Parent)
            depth++;
        if (depth > KeyCell.Deepest)
            throw VembarException.Input("bad-key",
                $"the key '{name}' would be more than {KeyCell.Deepest} keys deep, which is all that Windows takes");
        return _hive.Editor.AddSubkey(parent, name);
    }

    /// <summary>Keys are at most that deep below the root.</summary>
    internal const int Deepest = KeyCell.Deepest;

    /// <summary>Why a key cannot have a name, in words; null when it can.</summary>
    public static string? KeyNameProblem(string name) =>
        name.Length > KeyCell.LongestName
        ? $"the key's name '{name[..20]}…' has {name.Length} characters; {KeyCell.LongestName} are possible" : null;

    /// <summary>Why a value cannot have a name, in words; null when it can.</summary>
    public static string? ValueNameProblem(string name) =>
        name.Length > ValueCell.LongestName
        ? $"the value's name '{name[..20]}…' has {name.Length} characters; {ValueCell.LongestName} are possible" : null;

    /// <summary>Removes this key with all below it; it must not be used any more.</summary>
    /// <exception cref="VembarException">It is the root.</exception>
    public void Delete() => _hive.Guard(() =>
    {
        if (_cell == Image.Root)
            throw VembarException.Input("bad-key", "the root of a registry hive cannot be removed");
        _hive.Editor.DeleteKey(_cell);
        _hive.ForgetPlaces();
        return 0;
    });

    /// <summary>Removes a value; nothing happens when there is none.</summary>
    public void DeleteValue(string name) => _hive.Guard(() =>
    {
        if (IndexOf(name) is >= 0 and var index)
        {
            _hive.Editor.DeleteValue(_cell, index);
            _hive.ForgetPlaces();
        }
        return 0;
    });

    private int IndexOf(string name)
    {
        // Of a key with very many values the places are kept, as long as it is the one that is worked on.
        const int Many = 64;
        var values = HiveReader.Values(Image, _cell);
        return values.Length < Many ? HiveReader.IndexOf(Image, values, HiveText.Upper(name))
            : _hive.PlacesOf(_cell).GetValueOrDefault(new string(HiveText.Upper(name)), -1);
    }

    /// <summary>A value's type and bytes, or null.</summary>
    public (RegistryType Type, byte[] Bytes)? Get(string name) => _hive.Guard<(RegistryType, byte[])?>(() =>
    {
        if (IndexOf(name) is not (>= 0 and var index))
            return null;
        var cell = HiveReader.Values(Image, _cell)[index];
        return ((RegistryType)ValueCell.At(Image, cell).Type, HiveReader.Data(Image, cell));
    }, () => null);

    /// <summary>A text value, or null when it is missing or no text.</summary>
    public string? GetString(string name) =>
        Get(name) is (RegistryType.String or RegistryType.ExpandString, var bytes) ? Text(bytes) : null;

    /// <summary>A list of texts, or null.</summary>
    public IReadOnlyList<string>? GetStrings(string name) =>
        Get(name) is (RegistryType.MultiString, var bytes)
        ? Encoding.Unicode.GetString(bytes).Split('\0', StringSplitOptions.RemoveEmptyEntries) : null;

    /// <summary>A 32-bit number, or null.</summary>
    public uint? GetDword(string name) =>
        Get(name) is (RegistryType.Dword, { Length: >= 4 } bytes) ? BinaryPrimitives.ReadUInt32LittleEndian(bytes) : null;

    private static string Text(byte[] bytes)
    {
        var text = Encoding.Unicode.GetString(bytes);
        var end = text.IndexOf('\0');
        return end < 0 ? text : text[..end];
    }

    /// <summary>Sets a value; nothing happens when it is so.</summary>
    /// <exception cref="VembarException">Its name or its data is longer than the format can hold.</exception>
    public void Set(string name, RegistryType type, ReadOnlySpan<byte> bytes)
    {
        if (ValueNameProblem(name) is { } problem)
            throw VembarException.Input("bad-value", problem, "Choose a shorter name.");
        try
        {
            var index = IndexOf(name);
            _hive.Editor.SetValue(_cell, index, name, (uint)type, bytes);
            if (index < 0)
                _hive.Added(_cell, name);
        }
        catch (BinaryFormatException damage)
        {
            _hive.Guard<int>(() => throw damage);
        }
    }

    /// <summary>Gives up the room that a value's data takes; it has to be set next.</summary>
    internal void GiveUpData(string name) => _hive.Guard(() =>
    {
        if (IndexOf(name) is >= 0 and var index)
            _hive.Editor.GiveUpData(HiveReader.Values(Image, _cell)[index]);
        return 0;
    });

    /// <summary>Sets a text value.</summary>
    public void SetString(string name, string text, RegistryType type = RegistryType.String) =>
        Set(name, type, Encoding.Unicode.GetBytes(text + "\0"));

    /// <summary>Sets a list of texts.</summary>
    public void SetStrings(string name, IEnumerable<string> texts) =>
        Set(name, RegistryType.MultiString, Encoding.Unicode.GetBytes(string.Concat(texts.Select(t => t + "\0")) + "\0"));

    /// <summary>Sets a 32-bit number.</summary>
    public void SetDword(string name, uint value) => Set(name, RegistryType.Dword, BitConverter.GetBytes(value));
}
