namespace Vembar.Operations.Stations.Contract;

/// <summary>A machine of a list.</summary>
/// <param name="Identifier">UUID, serial number or network address.</param>
/// <param name="Name">The computer's name; may be empty.</param>
/// <param name="Site">The site; may be empty.</param>
/// <param name="Image">The image; may be empty.</param>
/// <param name="Fill">Texts for the answer file.</param>
public sealed record ImportRow(string Identifier, string Name, string Site, string Image, IReadOnlyDictionary<string, string> Fill)
{
    /// <summary>What is done about files that users made: "keep", "none", or empty for what the station does.</summary>
    public string UserFiles { get; init; } = "";

    /// <summary>The starter; see <see cref="Assignment.Starter"/>. Null for what it was.</summary>
    public string? Starter { get; init; }
}
