namespace Vembar.Cli.Json;

// The shapes that docs/json.md describes. Keys are never renamed or taken away.
internal sealed record ErrorBody(string Code, string Message, string Hint, IReadOnlyList<string> Details);
