using System.Text;

namespace Vembar.Windows.Registry;

/// <summary>A change to the registry.</summary>
/// <param name="Root">What the key is below: a hive's name, or for driver files HKR (the key at hand), HKLM, HKCR, HKCU or HKU.</param>
/// <param name="Subkey">The key below the root.</param>
/// <param name="Name">The value; empty for the default one.</param>
/// <param name="Kind">What is done.</param>
/// <param name="Type">The type to set.</param>
/// <param name="Bytes">The bytes to set.</param>
public sealed record RegistryEdit(string Root, string Subkey, string Name, RegistryEditKind Kind, RegistryType Type, byte[] Bytes)
{
    /// <summary>Whether it is so already.</summary>
    /// <param name="root">The key that <see cref="Root"/> stands for.</param>
    public bool IsMade(RegistryKey root) => IsMadeIn(root.Key(Subkey));

    /// <summary>Whether it is so already.</summary>
    /// <param name="there">The key at <see cref="Subkey"/>; null when there is none.</param>
    internal bool IsMadeIn(RegistryKey? there) => Kind switch
    {
        RegistryEditKind.MakeKey => there is not null,
        RegistryEditKind.DeleteKey => there is null || Subkey.Length == 0,
        RegistryEditKind.DeleteValue => there?.Get(Name) is null,
        RegistryEditKind.Set => there?.Get(Name) is { } value && value.Type == Type && value.Bytes.AsSpan().SequenceEqual(Bytes),
        RegistryEditKind.SetIfMissing => there?.Get(Name) is not null,
        RegistryEditKind.SetIfThere =>
            there?.Get(Name) is not { } value || (value.Type == Type && value.Bytes.AsSpan().SequenceEqual(Bytes)),
        RegistryEditKind.Append =>
            there?.GetStrings(Name) is { } texts && !Split(Bytes).Except(texts, StringComparer.OrdinalIgnoreCase).Any(),
        _ => there?.GetStrings(Name) is not { } texts || !texts.Intersect(Split(Bytes), StringComparer.OrdinalIgnoreCase).Any(),
    };

    /// <summary>What would take the change back, in the order in which to make it.</summary>
    /// <param name="root">The key that <see cref="Root"/> stands for, before the change is made.</param>
    public IReadOnlyList<RegistryEdit> Undo(RegistryKey root)
    {
        var there = root.Key(Subkey);
        if (Kind == RegistryEditKind.DeleteKey)
            return there is null || Subkey.Length == 0 ? [] : [.. All(there, Subkey)];
        var undo = new List<RegistryEdit>();
        if (Kind != RegistryEditKind.MakeKey)
            undo.Add(there?.Get(Name) is { } value ? this with
            {
                Kind = RegistryEditKind.Set,
                Type = value.Type,
                Bytes = value.Bytes,
            } : this with { Kind = RegistryEditKind.DeleteValue, Type = RegistryType.None, Bytes = [] });
        // Keys that it makes go again: from the first that is not there.
        var parts = Subkey.Split('\\', StringSplitOptions.RemoveEmptyEntries);
        for (var i = 1; i <= parts.Length; i++)
        {
            var path = string.Join('\\', parts[..i]);
            if (root.Key(path) is null)
                return Kind is RegistryEditKind.DeleteValue or RegistryEditKind.RemoveTexts or RegistryEditKind.SetIfThere ? []
                    : [this with { Subkey = path, Name = "", Kind = RegistryEditKind.DeleteKey, Type = RegistryType.None, Bytes = [] }];
        }
        return undo;
    }

    private IEnumerable<RegistryEdit> All(RegistryKey key, string path)
    {
        yield return new RegistryEdit(Root, path, "", RegistryEditKind.MakeKey, RegistryType.None, []);
        foreach (var (name, type, bytes) in key.Values)
            yield return new RegistryEdit(Root, path, name, RegistryEditKind.Set, type, bytes);
        foreach (var child in key.Subkeys.SelectMany(k => All(k, $@"{path}\{k.Name}")))
            yield return child;
    }

    /// <summary>Makes the change.</summary>
    /// <param name="root">The key that <see cref="Root"/> stands for.</param>
    public void Apply(RegistryKey root) => ApplyIn(root, root.Key(Subkey));

    /// <summary>Makes the change.</summary>
    /// <param name="root">The key that <see cref="Root"/> stands for.</param>
    /// <param name="there">The key at <see cref="Subkey"/>; null when there is none.</param>
    internal void ApplyIn(RegistryKey root, RegistryKey? there)
    {
        switch (Kind)
        {
            case RegistryEditKind.MakeKey:
                root.Ensure(Subkey);
                break;
            case RegistryEditKind.DeleteKey:
                if (Subkey.Length > 0)
                    there?.Delete();
                break;
            case RegistryEditKind.DeleteValue:
                there?.DeleteValue(Name);
                break;
            case RegistryEditKind.RemoveTexts:
                if (there?.GetStrings(Name) is { } texts)
                    there.SetStrings(Name, texts.Except(Split(Bytes), StringComparer.OrdinalIgnoreCase));
                break;
            case RegistryEditKind.Append:
                var key = root.Ensure(Subkey);
                var before = key.GetStrings(Name) ?? [];
                key.SetStrings(Name, before.Concat(Split(Bytes).Except(before, StringComparer.OrdinalIgnoreCase)));
                break;
            case RegistryEditKind.SetIfMissing when there?.Get(Name) is not null:
            case RegistryEditKind.SetIfThere when there?.Get(Name) is null:
                break;
            default:
                (there ?? root.Ensure(Subkey)).Set(Name, Type, Bytes);
                break;
        }
    }

    private static string[] Split(byte[] texts) => Encoding.Unicode.GetString(texts).Split('\0', StringSplitOptions.RemoveEmptyEntries);
}
