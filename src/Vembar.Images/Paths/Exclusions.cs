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

    /// <summary>What alone is taken, and what of it is not. Nobody is told of rules that matched nothing.</summary>
    /// <param name="only">Patterns of what is taken, with the folders that lead to it.</param>
    /// <param name="leaveOut">Patterns of what is not, beside the built-in ones.</param>
    public static Exclusions Selecting(IEnumerable<string> only, IEnumerable<string> leaveOut) =>
        new(leaveOut.Concat(BuiltIn), own: 0) { Only = [.. only.Select(Glob.Parse)] };

    private Exclusions(IEnumerable<string> patterns, int own)
    {
        _own = own;
        _rules = [.. patterns.Select(p => (Glob.Parse(p), new bool[1]))];
    }

    /// <summary>What alone is taken, with the folders that lead to it; null for everything.</summary>
    public IReadOnlyList<Glob>? Only { get; private init; }

    /// <summary>What <see cref="RuleFor"/> says of a path that is not among <see cref="Only"/>: nobody is told of that.</summary>
    public const string NotAsked = "";

    /// <summary>Whether a file is among what is taken alone.</summary>
    public bool Takes(IReadOnlyList<string> file)
    {
        if (Only is null)
            return true;
        foreach (var glob in Only)
        {
            if (glob.Matches(file))
                return true;
        }
        return false;
    }

    private bool MayTakeBelow(IReadOnlyList<string> folder)
    {
        foreach (var glob in Only ?? [])
        {
            if (glob.MayMatchBelow(folder))
                return true;
        }
        return Only is null;
    }

    /// <summary>The rule that leaves a path out, or null.</summary>
    public string? RuleFor(IReadOnlyList<string> path)
    {
        if (Only is not null && !Takes(path) && !MayTakeBelow(path))
            return NotAsked;
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
        if (Only is not null)
            return true;
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
