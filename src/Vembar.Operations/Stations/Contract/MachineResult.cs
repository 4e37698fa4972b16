namespace Vembar.Operations.Stations.Contract;

/// <summary>What became of a machine, as it says itself at the end.</summary>
public sealed record MachineResult
{
    /// <summary>The image's number in the archive.</summary>
    public int Image { get; init; }

    /// <summary>The hash of the image's root folder.</summary>
    public string Root { get; init; } = "";

    /// <summary>What people call it.</summary>
    public string Title { get; init; } = "";

    /// <summary>The name that the machine has.</summary>
    public string ComputerName { get; init; } = "";

    /// <summary>Files written or captured.</summary>
    public long Files { get; init; }

    /// <summary>Bytes of them.</summary>
    public long Bytes { get; init; }

    /// <summary>Capturing: bytes that the archive grew by.</summary>
    public long BytesStored { get; init; }

    /// <summary>Bytes that came with a wave, and that were used.</summary>
    public long Heard { get; init; }

    /// <summary>Of a wave's bytes, those that were asked for by themselves.</summary>
    public long Asked { get; init; }

    /// <summary>Files that an earlier run, which was broken off, had written.</summary>
    public long Resumed { get; init; }

    /// <summary>Whether everything was read back and was right.</summary>
    public bool ReadBack { get; init; }

    /// <summary>How long the parts of it took, in seconds, in their order.</summary>
    public IReadOnlyList<PhaseTime> Phases { get; init; } = [];

    /// <summary>Programs that are installed, with their versions.</summary>
    public IReadOnlyList<string> Programs { get; init; } = [];

    /// <summary>Which driver each of its devices gets.</summary>
    public IReadOnlyList<DeviceDriver> Drivers { get; init; } = [];

    /// <summary>What was expected, and whether it is so.</summary>
    public IReadOnlyList<CheckedExpectation> Checks { get; init; } = [];

    /// <summary>Where the files of its users went that were kept.</summary>
    public IReadOnlyList<LaidBack> UserFiles { get; init; } = [];

    /// <summary>What should be known.</summary>
    public IReadOnlyList<string> Warnings { get; init; } = [];

    /// <summary>Whether all is so that was expected, and something was.</summary>
    public bool IsChecked => Checks.Count > 0 && Checks.All(c => c.IsSo || c.Severity == "note");
}
