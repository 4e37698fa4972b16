namespace Vembar.Operations.Sign;

/// <summary>Whether somebody trusted signed an image.</summary>
/// <param name="Image">The image's number.</param>
/// <param name="Title">Its name and version.</param>
/// <param name="Signer">Who; null for nobody trusted.</param>
/// <param name="Why">What is wrong where nobody did; else empty.</param>
public sealed record SignatureFinding(int Image, string Title, string? Signer, string Why);
