namespace Vembar.Images.Paths;

/// <summary>What a capture leaves out.</summary>
public sealed class Exclusions
{
    /// <summary>What Windows makes anew: never captured unless asked. Folders that Windows expects are kept, empty.</summary>
    public static IReadOnlyList<string> BuiltIn { get; } =
    [
        "pagefile.sys", "swapfile.sys", "hiberfil.sys", "$Recycle.Bin/**", "RECYCLER/**", "System Volume Information/**",
        "Windows/CSC/**", "Windows/Temp/**", "Users/*/AppData/Local/Temp/**", "Windows/Prefetch/*.pf",
        "Windows/SoftwareDistribution/Download/**", "$WINDOWS.~BT/**", "$WINDOWS.~WS/**",
        "$MFT", "$MFTMirr", "$LogFile", "$Volume", "$AttrDef", "$Bitmap", "$Boot", "$BadClus", "$Secure", "$UpCase", "$Extend",
        "$Extend/**",
    ];

    private readonly (Glob Glob, bool[] Used)[] _rules;
    private readonly int _own;

    /// <summary>The built-in rules, unless all is to be kept, and some of the user's own.</summary>
    public Exclusions(IEnumerable<string> own, bool keepAll)
    {
        var mine = own.Select(Glob.Parse).ToList();
        _own = mine.Count;
        _rules = [.. mine.Concat(keepAll ? [] : BuiltIn.Select(Glob.Parse)).Select(g => (g, new bool[1]))];
    }

    /// <summary>The rule that leaves a path out, or null.</summary>
    public string? RuleFor(IReadOnlyList<string> path)
    {
        foreach (var (glob, used) in _rules)
        {
            if (glob.Matches(path))
            {
                used[0] = true;
                return glob.Text;
            }
        }
        return null;
    }

    /// <summary>Whether any rule may leave out something below a folder.</summary>
    public bool MayLeaveOutBelow(IReadOnlyList<string> folder)
    {
        foreach (var (glob, _) in _rules)
        {
            if (glob.MayMatchBelow(folder))
                return true;
        }
        return false;
    }

    /// <summary>The user's rules that matched nothing.</summary>
    public IEnumerable<string> Unused => _rules.Take(_own).Where(r => !r.Used[0]).Select(r => r.Glob.Text);
}
