namespace Vembar.Operations.Stations.Contract;

/// <summary>What a machine is to become. Texts that were filled in are not told again.</summary>
public sealed record Assignment
{
    /// <summary>The computer's name; empty where it has none yet.</summary>
    public string Name { get; init; } = "";

    /// <summary>The site that it stands in; may be empty.</summary>
    public string Site { get; init; } = "";

    /// <summary>The image: NAME, NAME@VERSION, NAME@CHANNEL or a number, behind ARCHIVE# where it is not of the station's first archive;
    /// empty where none was chosen.</summary>
    public string Image { get; init; } = "";

    /// <summary>How the disk is divided; empty for what the firmware needs.</summary>
    public string Layout { get; init; } = "";

    /// <summary>The station's file of expectations, by its name; empty for the image's own, or none.</summary>
    public string Expectations { get; init; } = "";

    /// <summary>What is done about files that users made on the machine: "keep" or "none"; empty for what the station does.</summary>
    public string UserFiles { get; init; } = "";

    /// <summary>The starter that it gets from the network: "production", "pilot" or a version; empty for what its site gets.</summary>
    public string Starter { get; init => field = value ?? ""; } = "";

    /// <summary>The names of the texts that are filled in.</summary>
    public IReadOnlyList<string> Fills { get; init; } = [];
}
