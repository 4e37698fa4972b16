using System.Text.Json;
using Vembar.Common;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Volumes.Targets;

namespace Vembar.Operations.UserData;

/// <summary>What tells one putting back of user files from others, with where they go: what was begun is gone on with at the same
/// places.</summary>
/// <param name="Root">The image.</param>
/// <param name="Accounts">Names of the accounts, as patterns; none for all.</param>
/// <param name="Places">Where the files of each account go.</param>
internal sealed record RestoreJournalKey(string Root, IReadOnlyList<string> Accounts, IReadOnlyDictionary<string, string> Places)
{
    /// <summary>The key as text.</summary>
    public string Encode() => JsonSerializer.Serialize(this, RestoreJournalKeyJson.Default.RestoreJournalKey);

    /// <summary>Where an earlier run that was broken off puts the files; null for none.</summary>
    /// <param name="target">What it writes into.</param>
    /// <param name="root">The image.</param>
    /// <param name="accounts">Names of the accounts, as patterns; none for all.</param>
    public static IReadOnlyDictionary<string, string>? Begun(IReadOnlyTree target, string root, IReadOnlyList<string> accounts)
    {
        try
        {
            return DeployJournal.KeyIn(target.ReadFile(WindowsPath.Root.Child(DeployJournal.FileName), DeployJournal.Longest)) is { } key
                && JsonSerializer.Deserialize(key, RestoreJournalKeyJson.Default.RestoreJournalKey) is { Places: not null } found
                && found.Root == root && found.Accounts.SequenceEqual(accounts) ? found.Places : null;
        }
        catch (Exception problem) when (problem is JsonException or VembarException { Kind: ErrorKind.Input })
        {
            return null;
        }
    }
}
