namespace Vembar.Cli;

internal sealed record DamageJson(int? Image, string Path, string Problem);
