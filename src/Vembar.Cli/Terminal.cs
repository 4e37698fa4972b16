namespace Vembar.Cli;

/// <summary>Lines for people.</summary>
internal static class Terminal
{
    private const int Narrowest = 40, Usual = 80;

    /// <summary>How many characters a line has.</summary>
    public static int Width
    {
        get
        {
            try
            {
                return Console.WindowWidth is > 0 and var width ? Math.Max(width, Narrowest) : Usual;
            }
            catch (IOException)
            {
                return Usual;
            }
        }
    }

    /// <summary>Writes a line in a colour, where that is wanted.</summary>
    public static void Write(TextWriter to, bool isRedirected, string text, Func<string, string> style)
    {
        foreach (var line in Lines(isRedirected, text))
            to.WriteLine(style(line));
    }

    /// <summary>Writes a line; on a terminal it is broken between words, and what follows begins as far to the right as it does.</summary>
    /// <param name="to">Where.</param>
    /// <param name="isRedirected">Whether that is no terminal.</param>
    /// <param name="text">The line; what would steer a terminal is shown as its code.</param>
    public static void Write(TextWriter to, bool isRedirected, string text) => Write(to, isRedirected, text, line => line);

    /// <summary>A text as the lines of a terminal; one where it goes elsewhere.</summary>
    /// <param name="isRedirected">Whether it goes to no terminal.</param>
    /// <param name="text">The text.</param>
    /// <param name="taken">How much of each line is taken already.</param>
    public static IEnumerable<string> Lines(bool isRedirected, string text, int taken = 0)
    {
        var safe = Text.Safe(text);
        return isRedirected ? [safe] : LineBreaks.Prose(safe, Width - taken);
    }
}
