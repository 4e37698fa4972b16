using Vembar.Common;

namespace Vembar.Operations.Starters;

/// <summary>The modules of a kernel: what each needs, and which devices ask for it (depmod's modules.dep and modules.alias).</summary>
internal sealed class KernelModules
{
    private readonly Dictionary<string, string> _paths = new(StringComparer.Ordinal);
    private readonly Dictionary<string, string[]> _needs = new(StringComparer.Ordinal);

    private KernelModules(string root, string release)
    {
        Root = root;
        Release = release;
        Aliases = ModuleAliases.Read(Path.Combine(root, "modules.alias"));
    }

    /// <summary>The folder of the modules.</summary>
    public string Root { get; }

    /// <summary>The kernel's release, as `uname -r` says it.</summary>
    public string Release { get; }

    /// <summary>Which devices ask for them.</summary>
    public ModuleAliases Aliases { get; }

    /// <summary>All modules, by their names.</summary>
    public IReadOnlyCollection<string> Names => _paths.Keys;

    /// <summary>A name as all parts of the kernel write it.</summary>
    public static string NameOf(string path)
    {
        var name = Path.GetFileName(path);
        var end = name.IndexOf(".ko", StringComparison.Ordinal);
        return (end < 0 ? name : name[..end]).Replace('-', '_');
    }

    /// <summary>The path of a module, below the folder of modules.</summary>
    public string PathOf(string name) => _paths[name];

    /// <summary>Reads what depmod wrote.</summary>
    /// <param name="root">The folder lib/modules/RELEASE.</param>
    /// <exception cref="VembarException">It is not there.</exception>
    public static KernelModules Read(string root)
    {
        var modules = new KernelModules(root, Path.GetFileName(root));
        foreach (var line in LinesOf(root, "modules.dep"))
        {
            if (line.Split(':', 2) is not [var path, var needs])
                continue;
            modules._paths[NameOf(path)] = path;
            modules._needs[NameOf(path)] = [.. needs.Split(' ', StringSplitOptions.RemoveEmptyEntries).Select(NameOf)];
        }
        return modules;
    }

    private static string[] LinesOf(string root, string name)
    {
        var path = Path.Combine(root, name);
        return File.Exists(path) ? File.ReadAllLines(path)
            : throw VembarException.Input("bad-modules", $"'{path}' is not there", "Make the starter anew.");
    }

    /// <summary>Modules with all that they need.</summary>
    public IReadOnlySet<string> With(IEnumerable<string> names)
    {
        var all = new SortedSet<string>(StringComparer.Ordinal);
        var left = new Stack<string>(names.Where(_paths.ContainsKey));
        while (left.TryPop(out var name))
        {
            if (!all.Add(name))
                continue;
            foreach (var needed in _needs[name].Where(_paths.ContainsKey))
                left.Push(needed);
        }
        return all;
    }

    /// <summary>Modules of folders of the kernel's source ("drivers/nvme").</summary>
    public IEnumerable<string> Below(IEnumerable<string> folders) => folders.SelectMany(folder =>
        _paths.Where(p => p.Value.StartsWith($"kernel/{folder}/", StringComparison.Ordinal)
            || p.Value.StartsWith($"kernel/{folder}.ko", StringComparison.Ordinal)).Select(p => p.Key));
}
