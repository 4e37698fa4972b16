using Vembar.Operations.Project;

namespace Vembar.Station.Hosting;

/// <summary>How a station runs: what its file says, and what the command line says instead.</summary>
public sealed record StationOptions
{
    /// <summary>The port that is listened on where none is named.</summary>
    public const int UsualPort = 8470;

    /// <summary>The folder that it keeps what is its own in.</summary>
    public required string Data { get; init; }

    /// <summary>Where it listens: HOST:PORT; "*" for all.</summary>
    public string Listen { get; init; } = $"*:{UsualPort}";

    /// <summary>Addresses that others reach it at; empty for what this machine is called.</summary>
    public IReadOnlyList<string> Addresses { get; init; } = [];

    /// <summary>postgresql://…; null for a SQLite file in its folder.</summary>
    public string? Database { get; init; }

    /// <summary>A certificate of somebody else's (PEM) with its key; null for one of its own authority.</summary>
    public (string Certificate, string Key)? Certificate { get; init; }

    /// <summary>Archives by their names; the first is the one that is meant where none is named.</summary>
    public IReadOnlyList<(string Name, string Place)> Archives { get; init; } = [];

    /// <summary>Hardware profiles: files and folders.</summary>
    public IReadOnlyList<string> Hardware { get; init; } = [];

    /// <summary>Files and folders of certificates of those who may sign images; empty for no demand.</summary>
    public IReadOnlyList<string> Signers { get; init; } = [];

    /// <summary>Files of expectations by their names.</summary>
    public IReadOnlyList<(string Name, string Path)> Expectations { get; init; } = [];

    /// <summary>Which machines are approved without anybody.</summary>
    public ApprovalRule Approve { get; init; }

    /// <summary>The image that machines get which nobody gave another; empty for none.</summary>
    public string Image { get; init; } = "";

    /// <summary>How machines are named that nobody gave a name; empty for not at all.</summary>
    public string Names { get; init; } = "";

    /// <summary>What archives of user files are called, before the machine's id.</summary>
    public const string UserFilesPrefix = "kept-";

    /// <summary>What is done about user files of machines of which nobody said it: "keep" or "none".</summary>
    public string UserFiles { get; init; } = "none";

    /// <summary>The file of rules by which they are kept; null for what is usual.</summary>
    public string? UserFilesRules { get; init; }

    /// <summary>The folder that they are kept in; null for one among what is the station's own.</summary>
    public string? UserFilesFolder { get; init; }

    /// <summary>The folder of starters; null for none.</summary>
    public string? Starters { get; init; }

    /// <summary>How machines start from the network.</summary>
    public BootOptions Boot { get; init; } = new();

    /// <summary>How machines are switched on.</summary>
    public IReadOnlyList<PowerCommand> Power { get; init; } = [];

    /// <summary>How waves are sent.</summary>
    public WaveOptions Waves { get; init; } = new();

    /// <summary>Certificates of who vouches for the servers of places; null for the system's alone.</summary>
    public string? Ca { get; init; }

    /// <summary>How much of archives that are elsewhere is kept here, in bytes.</summary>
    public long Cache { get; init; } = 64L << 30;

    /// <summary>The project file that it was taken from; null for none.</summary>
    public ProjectFile? Project { get; init; }
}
