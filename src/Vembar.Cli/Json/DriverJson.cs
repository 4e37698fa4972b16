namespace Vembar.Cli.Json;

internal sealed record DriverJson(string Inf, string OriginalInf, string StoreFolder, string Provider, string Version, DateOnly? Date,
    IReadOnlyList<string> Services, IReadOnlyList<string> Ids, string? Files);
