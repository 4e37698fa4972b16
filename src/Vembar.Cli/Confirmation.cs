using Vembar.Common;

namespace Vembar.Cli;

/// <summary>Asks before something goes.</summary>
internal static class Confirmation
{
    /// <summary>The option that answers beforehand.</summary>
    public static System.CommandLine.Option<bool> Option() => new("--confirm")
    {
        Description = "Do it without asking; needed where nobody is there to answer",
    };

    /// <summary>Shows what goes and asks whether it may.</summary>
    /// <param name="session">Whose progress is taken off the screen.</param>
    /// <param name="confirmed">Whether it was answered beforehand.</param>
    /// <param name="lines">What goes.</param>
    /// <param name="what">The question without its mark.</param>
    /// <exception cref="VembarException">Nobody is there to answer.</exception>
    public static bool Ask(Session session, bool confirmed, IReadOnlyList<string> lines, string what)
    {
        if (confirmed)
            return true;
        if (Console.IsInputRedirected || Console.IsErrorRedirected)
            throw new VembarException(ErrorKind.Usage, "not-confirmed", $"nobody is there to confirm this: {what}",
                "Confirm it beforehand with --confirm.", lines);
        session.Progress.Clear();
        foreach (var line in lines)
            Console.Error.WriteLine(Text.Safe(line));
        Console.Error.Write(Text.Safe($"{what}? [y/N] "));
        return Console.In.ReadLine()?.Trim().ToUpperInvariant() is "Y" or "YES";
    }
}
