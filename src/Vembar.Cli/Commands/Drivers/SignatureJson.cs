namespace Vembar.Cli.Commands.Drivers;

internal sealed record SignatureJson(string State, string Signer, DateTime? Stamped, string Why);
