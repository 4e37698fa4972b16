using Vembar.Common;

namespace Vembar.Windows.Servicing.Answers;

/// <summary>Something about an answer file.</summary>
/// <param name="IsError">True when Windows would stumble over it or ignore it in silence.</param>
/// <param name="Line">The line; 0 when it concerns the whole.</param>
/// <param name="Text">What.</param>
public sealed record AnswerFinding(bool IsError, int Line, string Text)
{
    /// <summary>What would help, which the program puts into words; null for nothing.</summary>
    public Advice? Advice { get; init; }

    /// <inheritdoc/>
    public override string ToString() =>
        Line > 0 ? string.Create(System.Globalization.CultureInfo.InvariantCulture, $"line {Line}: {Text}") : Text;
}
