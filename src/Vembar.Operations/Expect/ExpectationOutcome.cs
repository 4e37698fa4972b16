using Vembar.Images.Records;

namespace Vembar.Operations.Expect;

/// <summary>An expectation, and whether it is so.</summary>
/// <param name="Check">Its short word.</param>
/// <param name="Severity">How much it weighs.</param>
/// <param name="Text">What is expected.</param>
/// <param name="IsSo">Whether it is so.</param>
/// <param name="Found">What was found instead; empty when it is so.</param>
/// <param name="Remedy">What to do; may be empty.</param>
public sealed record ExpectationOutcome(string Check, Severity Severity, string Text, bool IsSo, string Found, string Remedy);
