namespace Vembar.Cli.Commands.Files;

internal sealed record EntryJson(string Path, string Kind, long Bytes, DateTime? Modified, IReadOnlyList<string> Attributes, string? Hash,
    string? LinkTarget, IReadOnlyList<StreamJson> Streams);
