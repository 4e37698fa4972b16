using Vembar.Common;
using Vembar.Images.Paths;

namespace Vembar.Operations.UserData;

/// <summary>Which accounts are meant.</summary>
internal static class AccountChoice
{
    /// <summary>Those that patterns name; all where there are none.</summary>
    /// <param name="all">The accounts that there are.</param>
    /// <param name="name">An account's name.</param>
    /// <param name="patterns">Names, in which '*' and '?' match.</param>
    /// <param name="where">What they are of, for messages.</param>
    /// <exception cref="VembarException">A pattern names none.</exception>
    public static List<T> Of<T>(IReadOnlyList<T> all, Func<T, string> name, IReadOnlyList<string> patterns, string where)
    {
        if (patterns.Count == 0)
            return [.. all];
        var globs = patterns.Select(Glob.ParseName).ToList();
        if (globs.Find(g => !all.Any(a => g.Matches([name(a)]))) is { } missing)
            throw VembarException.Input("no-such-account", $"{where} has no account '{missing.Text}'",
                Advice.Of("known-accounts", ("value", string.Join(", ", all.Select(name)))));
        return [.. all.Where(a => globs.Exists(g => g.Matches([name(a)])))];
    }
}
