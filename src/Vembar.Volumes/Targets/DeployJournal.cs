using System.Text.Json;
using Vembar.Common;

namespace Vembar.Volumes.Targets;

/// <summary>
/// What lies in a target while it is written, so that a deployment that is broken off can be gone on with: which one it is, and what was
/// there before and is not its own.
/// </summary>
public sealed record DeployJournal
{
    /// <summary>The file's name, at the target's top.</summary>
    public const string FileName = ".vembar-deploying";

    /// <summary>The name under which it is written in a folder before it counts.</summary>
    internal const string UnfinishedName = FileName + ".new";

    /// <summary>A longer one is not ours.</summary>
    internal const int Longest = 256 << 20;

    /// <summary>What is deployed.</summary>
    public required string Key { get; init; }

    /// <summary>The start of the machine that it was written under: since then, what was told to be written is.</summary>
    public required string Start { get; init; }

    /// <summary>Files and folders that were there before.</summary>
    public IReadOnlyList<string> Kept { get; init; } = [];

    /// <summary>Which start of this machine it is; empty where that cannot be told.</summary>
    internal static string PresentStart()
    {
        const string Path = "/proc/sys/kernel/random/boot_id";
        return File.Exists(Path) ? File.ReadAllText(Path).Trim() : "";
    }

    internal byte[] Encode() => JsonSerializer.SerializeToUtf8Bytes(this, DeployJournalJson.Default.DeployJournal);

    /// <summary>What is deployed by one that was found; null for none, and for one that cannot be told.</summary>
    internal static string? KeyIn(byte[]? bytes)
    {
        try
        {
            return bytes is null ? null : JsonSerializer.Deserialize(bytes, DeployJournalJson.Default.DeployJournal)?.Key;
        }
        catch (JsonException)
        {
            return null;
        }
    }

    /// <summary>Reads one that was found, for a deployment.</summary>
    /// <exception cref="VembarException">It is of another deployment, or damaged.</exception>
    internal static DeployJournal Parse(byte[] bytes, string key, string target)
    {
        DeployJournal? found = null;
        try
        {
            found = JsonSerializer.Deserialize(bytes, DeployJournalJson.Default.DeployJournal);
        }
        catch (JsonException)
        {
            // Cut off or not ours.
        }
        if (found is not null && found.Key == key)
            return found;
        var left = found is null ? "what is left of a deployment that cannot be told"
            : "an unfinished deployment of another image, or with other answers";
        throw VembarException.Input("other-deployment", $"{target} holds {left} ('{FileName}')",
            "Finish it with the command that began it, or empty the target.");
    }
}
