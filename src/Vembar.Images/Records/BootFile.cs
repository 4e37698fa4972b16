namespace Vembar.Images.Records;

/// <summary>A boot file and its signature.</summary>
/// <param name="Path">Where it is in the image.</param>
/// <param name="State">signed, unsigned, wrong-hash (changed after it was signed) or bad-signature.</param>
/// <param name="Signer">Who signed it; empty when nobody did.</param>
public sealed record BootFile(string Path, string State, string Signer)
{
    /// <summary>The state of a file that is as it was signed.</summary>
    public const string Signed = "signed";
}
