namespace Vembar.Cli.Commands.Guide;

internal sealed record ManPagesJson(string Folder, IReadOnlyList<string> Pages);
