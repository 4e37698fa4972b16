namespace Vembar.Cli;

/// <summary>A column of a table.</summary>
/// <param name="Heading">What stands over it.</param>
/// <param name="IsNumber">Whether it is for numbers: it stands to the right and is never broken.</param>
/// <param name="MayGo">Whether it goes where there is little room.</param>
/// <param name="IsState">Whether its words say how something stands, and are coloured by that.</param>
internal sealed record TableColumn(string Heading, bool IsNumber, bool MayGo, bool IsState)
{
    /// <summary>Reads a heading: '>' before it is for numbers, '~' for what may go, '!' for words that say how something stands.</summary>
    public static TableColumn Parse(string text)
    {
        var heading = text.TrimStart('>', '~', '!');
        var marks = text[..^heading.Length];
        return new TableColumn(heading, marks.Contains('>'), marks.Contains('~'), marks.Contains('!'));
    }
}
