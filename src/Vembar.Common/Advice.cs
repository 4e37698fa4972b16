namespace Vembar.Common;

/// <summary>What would help against an error, for the program that tells of it to put into its own words.</summary>
/// <param name="Word">A short stable word for it, in kebab case.</param>
/// <param name="Arguments">What the program's words need, by name.</param>
public sealed record Advice(string Word, IReadOnlyDictionary<string, string> Arguments)
{
    /// <summary>Makes one.</summary>
    public static Advice Of(string word, params ReadOnlySpan<(string Name, string Value)> arguments)
    {
        var named = new Dictionary<string, string>(StringComparer.Ordinal);
        foreach (var (name, value) in arguments)
            named[name] = value;
        return new Advice(word, named);
    }
}
