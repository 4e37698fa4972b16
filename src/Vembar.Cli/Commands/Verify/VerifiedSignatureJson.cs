namespace Vembar.Cli.Commands.Verify;

internal sealed record VerifiedSignatureJson(int Image, string? Signer, string Why);
