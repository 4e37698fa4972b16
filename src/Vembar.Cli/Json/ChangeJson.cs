namespace Vembar.Cli.Json;

internal sealed record ChangeJson(string Kind, string What, string Status, string Why, long Bytes, double Seconds);
