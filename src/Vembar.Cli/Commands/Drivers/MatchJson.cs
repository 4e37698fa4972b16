namespace Vembar.Cli.Commands.Drivers;

internal sealed record MatchJson(string Driver, string From, string Provider, string Version, DateOnly Date, bool Trusted,
    string Description, string Id, string IdKind, int FeatureScore, string Why);
