namespace Vembar.Cli;

internal sealed record ChangeJson(string Kind, string What, string Status, string Why, long Bytes, double Seconds);
