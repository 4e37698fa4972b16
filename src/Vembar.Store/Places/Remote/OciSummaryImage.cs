namespace Vembar.Store.Places.Remote;

/// <summary>An image in a summary.</summary>
internal sealed record OciSummaryImage(int Number, string Name, string Version);
