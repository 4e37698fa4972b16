namespace Vembar.Store.Places.Remote;

/// <summary>A summary of an archive, for those who look at a registry with other tools.</summary>
internal sealed record OciSummary
{
    public Guid Archive { get; init; }

    public long State { get; init; }

    public long Length { get; init; }

    public DateTime Created { get; init; }

    public IReadOnlyList<OciSummaryImage> Images { get; init; } = [];
}
