namespace Vembar.Cli;

internal sealed record SignatureJson(string State, string Signer, DateTime? Stamped, string Why);
