namespace Vembar.Windows.Servicing.Drivers;

/// <summary>The signature of a driver package, looked at.</summary>
/// <param name="State">The word for it.</param>
/// <param name="Signer">Who signed; empty when nobody did.</param>
/// <param name="Stamped">When, by a time-stamp that is trusted; null without one.</param>
/// <param name="Why">What was found, in a few words.</param>
public sealed record DriverSignature(SignatureState State, string Signer, DateTime? Stamped, string Why)
{
    /// <summary>The state as it is printed: signed, unsigned, wrong-hash, bad-signature, expired, untrusted, bad-catalog.</summary>
    public string Word => WordFor(State);

    /// <summary>The words for packages that nobody trusted signed.</summary>
    public static IReadOnlyList<string> Words { get; } =
        [.. Enum.GetValues<SignatureState>().Where(s => s != SignatureState.Signed).Select(WordFor)];

    internal static string WordFor(SignatureState state) => state switch
    {
        SignatureState.Signed => "signed",
        SignatureState.Unsigned => "unsigned",
        SignatureState.WrongHash => "wrong-hash",
        SignatureState.BadSignature => "bad-signature",
        SignatureState.Expired => "expired",
        SignatureState.Untrusted => "untrusted",
        _ => "bad-catalog",
    };
}
