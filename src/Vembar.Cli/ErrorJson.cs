namespace Vembar.Cli;

internal sealed record ErrorJson(ErrorBody Error);
