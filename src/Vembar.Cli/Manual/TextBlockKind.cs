namespace Vembar.Cli.Manual;

/// <summary>What a piece of a text is.</summary>
internal enum TextBlockKind
{
    /// <summary>The text's title.</summary>
    Title,

    /// <summary>A heading within it.</summary>
    Heading,

    /// <summary>Running text.</summary>
    Paragraph,

    /// <summary>Something that is to be read as it stands.</summary>
    Code,

    /// <summary>An item of a list, or a row of a table.</summary>
    Item,
}
