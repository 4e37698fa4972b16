namespace Vembar.Images.Records;

/// <summary>A signature of an image's statement.</summary>
/// <param name="Signer">Who, as the certificate names it.</param>
/// <param name="Time">When, UTC, as the signer says.</param>
/// <param name="Cms">The signature: detached CMS (RFC 5652) in DER, in Base64.</param>
public sealed record ImageSignature(string Signer, DateTime Time, byte[] Cms);
