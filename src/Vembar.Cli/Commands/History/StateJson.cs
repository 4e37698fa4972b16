namespace Vembar.Cli.Commands.History;

internal sealed record StateJson(long Number, DateTime Time, string Change, long End, IReadOnlyList<StateImageJson> Images, string Problem,
    string By);
