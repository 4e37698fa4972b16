namespace Vembar.Cli.Commands.Verify;

internal sealed record DamageJson(int? Image, string Path, string Problem);
