namespace Vembar.Operations.Sign;

/// <summary>Which image to sign, and as whom.</summary>
/// <param name="Image">The image.</param>
/// <param name="Certificate">The signer's certificate, a PEM file.</param>
/// <param name="Key">Its key, a PEM file.</param>
/// <param name="Password">Asked for the password of an encrypted key.</param>
/// <param name="Wait">How long to wait for another writer.</param>
public sealed record SignRequest(ImageReference Image, string Certificate, string Key, Func<string> Password, TimeSpan Wait);
