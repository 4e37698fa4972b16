namespace Vembar.Cli.Json;

internal sealed record ErrorJson(ErrorBody Error);
