namespace Vembar.Operations.Stations.Contract;

/// <summary>Somebody wants a wave.</summary>
public sealed record WaveRequest
{
    /// <summary>The image; see <see cref="Assignment.Image"/>.</summary>
    public required string Image { get; init; }

    /// <summary>Machines that it is for, as people name them; none for all, or all of a site.</summary>
    public IReadOnlyList<string> Machines { get; init => field = value ?? []; } = [];

    /// <summary>The site whose machines it is for; empty for any.</summary>
    public string Site { get; init => field = value ?? ""; } = "";

    /// <summary>Begins when so many machines wait for it; null for not by their number.</summary>
    public int? Joined { get; init; }

    /// <summary>Begins at this time, UTC; null for no time.</summary>
    public DateTime? At { get; init; }

    /// <summary>How fast it sends, in bits a second; null for what the station does.</summary>
    public long? Rate { get; init; }

    /// <summary>Refusals that are set aside, by their words; administrators alone may.</summary>
    public IReadOnlyList<string> Accept { get; init => field = value ?? []; } = [];
}
