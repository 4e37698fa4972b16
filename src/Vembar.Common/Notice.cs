namespace Vembar.Common;

/// <summary>Something to be told, with what would help where that names what a program calls its commands and options.</summary>
/// <param name="Text">What is to be told.</param>
/// <param name="Advice">What would help; null for nothing.</param>
public sealed record Notice(string Text, Advice? Advice = null)
{
    /// <summary>A text that says all.</summary>
    public static implicit operator Notice(string text) => new(text);

    /// <inheritdoc/>
    public override string ToString() => Text;
}
