namespace Vembar.Operations.Stations.Contract;

/// <summary>How a task ended.</summary>
public sealed record TaskOutcome
{
    /// <summary>Whether it was done.</summary>
    public required bool Done { get; init; }

    /// <summary>What went wrong: a short stable word; empty for nothing.</summary>
    public string Code { get; init; } = "";

    /// <summary>What went wrong, in a line; empty for nothing.</summary>
    public string Problem { get; init; } = "";

    /// <summary>What to do about it; may be empty.</summary>
    public string Hint { get; init; } = "";

    /// <summary>Further lines.</summary>
    public IReadOnlyList<string> Details { get; init; } = [];

    /// <summary>What the machine is now; null where nothing was made.</summary>
    public MachineResult? Result { get; init; }
}
