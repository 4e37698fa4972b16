namespace Vembar.Cli;

internal sealed record OrderFileJson(string Kind, string Path, bool IsThere);
