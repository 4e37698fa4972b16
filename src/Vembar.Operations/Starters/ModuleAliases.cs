using Vembar.Common;

namespace Vembar.Operations.Starters;

/// <summary>Which modules drive which devices (depmod's modules.alias): patterns of what devices say of themselves.</summary>
internal sealed class ModuleAliases
{
    private const int Longest = 64 << 20;

    private readonly List<(string Pattern, string Module)> _all;

    private ModuleAliases(List<(string, string)> all) => _all = all;

    /// <summary>All patterns, each with its module.</summary>
    public IReadOnlyList<(string Pattern, string Module)> All => _all;

    /// <summary>Reads the list.</summary>
    /// <exception cref="VembarException">It is not there.</exception>
    public static ModuleAliases Read(string path)
    {
        if (!File.Exists(path) || new FileInfo(path).Length > Longest)
            throw VembarException.Input("bad-modules", $"'{path}' is not there, or no list of modules", "Make the starter anew.");
        return new ModuleAliases([.. File.ReadLines(path).Select(l => l.Split(' ')).Where(p => p is ["alias", _, _])
            .Select(p => (p[1], KernelModules.NameOf(p[2])))]);
    }

    /// <summary>Modules that drive a device.</summary>
    /// <param name="alias">What the device says of itself ("pci:v00008086d000015B8sv…").</param>
    public IEnumerable<string> For(string alias) => _all.Where(a => Matches(a.Pattern, alias)).Select(a => a.Module).Distinct();

    // '*' and '?' alone, as depmod writes them; a pattern with a list in brackets matches nothing here.
    private static bool Matches(ReadOnlySpan<char> pattern, ReadOnlySpan<char> text) =>
        System.IO.Enumeration.FileSystemName.MatchesSimpleExpression(pattern, text, ignoreCase: true);
}
