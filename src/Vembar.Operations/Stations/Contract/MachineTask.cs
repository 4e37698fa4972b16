namespace Vembar.Operations.Stations.Contract;

/// <summary>What a machine is to do, with all that it needs for it; handed out to it alone.</summary>
public sealed record MachineTask
{
    /// <summary>Which task it is; never given again.</summary>
    public required string Id { get; init; }

    /// <summary>What.</summary>
    public required TaskKind Kind { get; init; }

    /// <summary>The archive at the station, as the part of an address behind the station's ("/archives/desks").</summary>
    public required string Archive { get; init; }

    /// <summary>Deploying: the image's number.</summary>
    public int Image { get; init; }

    /// <summary>Deploying: the hash of the image's root folder, so that it is the one that was approved.</summary>
    public string Root { get; init; } = "";

    /// <summary>What people call the image; capturing: the name that it gets.</summary>
    public string Title { get; init; } = "";

    /// <summary>The computer's name.</summary>
    public string? ComputerName { get; init; }

    /// <summary>Texts for what stands between {{ and }} in the answer file.</summary>
    public IReadOnlyDictionary<string, string> Fill { get; init; } = new Dictionary<string, string>();

    /// <summary>How the disk is divided: "uefi" or "bios".</summary>
    public string Layout { get; init; } = "uefi";

    /// <summary>Whether what is written is read back and compared.</summary>
    public bool Verify { get; init; } = true;

    /// <summary>What the machine has to be afterwards, as a file of expectations; null for nothing.</summary>
    public string? Expectations { get; init; }

    /// <summary>Deploying: whether and where the files of its users are kept; null for not at all.</summary>
    public KeepOrder? UserFiles { get; init; }

    /// <summary>Deploying: the wave that it belongs to; null for none.</summary>
    public WaveOrder? Wave { get; init; }

    /// <summary>Certificates (PEM) of whom one has to have signed the image; null for nobody.</summary>
    public string? Signers { get; init; }

    /// <summary>Capturing: the edition, version and note of the new image.</summary>
    public string? Edition { get; init; }

    /// <inheritdoc cref="Edition"/>
    public string? Version { get; init; }

    /// <summary>Capturing: whether an install that is not ready is captured all the same.</summary>
    public bool AcceptUnready { get; init; }
}
