using Vembar.Common.Formats;

namespace Vembar.Windows.Registry.Hives;

/// <summary>Finds what differs between two hives. What is alike is passed over on the hives' own bytes.</summary>
/// <param name="before">The first hive.</param>
/// <param name="after">The second.</param>
/// <param name="found">Told of each difference.</param>
/// <param name="cancellation">Ends it.</param>
internal sealed class HiveDifferences(HiveImage before, HiveImage after, Action<RegistryDifference> found, CancellationToken cancellation)
{
    /// <summary>Goes through both from their roots.</summary>
    /// <exception cref="BinaryFormatException">One of them is damaged.</exception>
    public void Find() => Keys(before.Root, after.Root, 0);

    private void Keys(int x, int y, int depth)
    {
        if (depth > KeyCell.Deepest)
            throw new BinaryFormatException("key", x, $"it is more than {KeyCell.Deepest} keys deep");
        cancellation.ThrowIfCancellationRequested();
        if (!HiveComparison.SameValues(before, HiveReader.Values(before, x), after, HiveReader.Values(after, y)))
            Values(PathOf(x), ByName(before, x), ByName(after, y));
        var (keys, others) = (HiveReader.Subkeys(before, x), HiveReader.Subkeys(after, y));
        if (HaveTheSameNames(keys, others))
        {
            for (var i = 0; i < keys.Count; i++)
                Keys(keys[i], others[i], depth + 1);
            return;
        }
        var old = KeysByName(before, keys);
        var now = KeysByName(after, others);
        foreach (var name in old.Keys.Union(now.Keys, StringComparer.OrdinalIgnoreCase).Order(StringComparer.OrdinalIgnoreCase))
        {
            var isOld = old.TryGetValue(name, out var key);
            var isNew = now.TryGetValue(name, out var other);
            if (isOld && isNew)
                Keys(key, other, depth + 1);
            else if (isOld)
                All(before, key, Below(PathOf(x), name), "removed", depth + 1);
            else
                All(after, other, Below(PathOf(x), name), "added", depth + 1);
        }
    }

    private bool HaveTheSameNames(List<int> keys, List<int> others)
    {
        if (keys.Count != others.Count)
            return false;
        for (var i = 0; i < keys.Count; i++)
        {
            if (!HiveComparison.SameName(before, keys[i], after, others[i]))
                return false;
        }
        return true;
    }

    private static Dictionary<string, int> KeysByName(HiveImage hive, List<int> keys)
    {
        var byName = new Dictionary<string, int>(keys.Count, StringComparer.OrdinalIgnoreCase);
        foreach (var key in keys)
            byName.TryAdd(KeyCell.At(hive, key).Name, key);
        return byName;
    }

    private static Dictionary<string, int> ByName(HiveImage hive, int key)
    {
        var byName = new Dictionary<string, int>(StringComparer.OrdinalIgnoreCase);
        foreach (var value in HiveReader.Values(hive, key))
            byName.TryAdd(ValueCell.At(hive, value).Name, value);
        return byName;
    }

    private void Values(string path, Dictionary<string, int> old, Dictionary<string, int> now)
    {
        foreach (var name in old.Keys.Union(now.Keys, StringComparer.OrdinalIgnoreCase).Order(StringComparer.OrdinalIgnoreCase))
        {
            if (!old.TryGetValue(name, out var value))
                found(new RegistryDifference(path, name, "added"));
            else if (!now.TryGetValue(name, out var other))
                found(new RegistryDifference(path, name, "removed"));
            else if (!HiveComparison.SameData(before, value, after, other))
                found(new RegistryDifference(path, name, "changed"));
        }
    }

    private void All(HiveImage hive, int key, string path, string what, int depth)
    {
        if (depth > KeyCell.Deepest)
            throw new BinaryFormatException("key", key, $"it is more than {KeyCell.Deepest} keys deep");
        cancellation.ThrowIfCancellationRequested();
        found(new RegistryDifference(path, null, what));
        foreach (var value in HiveReader.Values(hive, key))
            found(new RegistryDifference(path, ValueCell.At(hive, value).Name, what));
        foreach (var child in HiveReader.Subkeys(hive, key))
            All(hive, child, Below(path, KeyCell.At(hive, child).Name), what, depth + 1);
    }

    private static string Below(string path, string name) => path.Length > 0 ? $@"{path}\{name}" : name;

    // Written only where something differs: most keys have nothing to say.
    private string PathOf(int key)
    {
        var names = new List<string>();
        for (; key != before.Root && names.Count <= KeyCell.Deepest; key = KeyCell.At(before, key).Parent)
            names.Add(KeyCell.At(before, key).Name);
        names.Reverse();
        return string.Join('\\', names);
    }
}
