using System.Text.Json;
using Vembar.Common;
using Vembar.Common.Files;

namespace Vembar.Operations.Starters;

/// <summary>Which starters of a folder are in use: one for all machines, and maybe another that is tried on some.</summary>
/// <param name="Production">The version for all machines; null for the newest.</param>
/// <param name="Pilot">The version that is tried; null for the same.</param>
public sealed record StarterChannels(string? Production, string? Pilot)
{
    /// <summary>The file, in the folder that the starters' folders are in.</summary>
    public const string FileName = "channels.json";

    /// <summary>The channels that there are.</summary>
    public const string ProductionName = "production", PilotName = "pilot";

    private const int Longest = 64 << 10;

    /// <summary>Reads what a folder says.</summary>
    /// <exception cref="VembarException">The file is not one.</exception>
    public static StarterChannels Read(string folder)
    {
        var path = Path.Combine(folder, FileName);
        try
        {
            if (!File.Exists(path))
                return new StarterChannels(null, null);
            var read = new FileInfo(path).Length > Longest ? null
                : JsonSerializer.Deserialize(File.ReadAllBytes(path), StarterJson.Default.StarterChannels);
            return read ?? throw new JsonException();
        }
        catch (JsonException)
        {
            throw VembarException.Input("bad-channels", $"'{path}' does not say which starters are in use", Advice.Of("use-starter"));
        }
        catch (Exception failure) when (VembarException.From(failure, "read", path) is { } error)
        {
            throw error;
        }
    }

    /// <summary>Puts a starter into a channel.</summary>
    /// <param name="starter">The starter.</param>
    /// <param name="channel">"production" or "pilot".</param>
    /// <returns>What is in use then.</returns>
    /// <exception cref="VembarException">It cannot be written.</exception>
    public static StarterChannels Use(Starter starter, string channel)
    {
        var folder = Path.GetDirectoryName(Path.GetFullPath(starter.Folder.TrimEnd('/')))!;
        var before = Read(folder);
        var now = channel == PilotName ? before with { Pilot = starter.Manifest.Version }
            : before with { Production = starter.Manifest.Version };
        var path = Path.Combine(folder, FileName);
        try
        {
            WholeFile.Write(path, JsonSerializer.SerializeToUtf8Bytes(now, StarterJson.Default.StarterChannels));
            return now;
        }
        catch (Exception failure) when (VembarException.From(failure, "write", path) is { } error)
        {
            throw error;
        }
    }

    /// <summary>The starter that a channel, or a version, means.</summary>
    /// <param name="all">The starters, the newest last.</param>
    /// <param name="named">"production", "pilot", a version, or empty for "production".</param>
    /// <returns>Null where there is none of that version.</returns>
    public Starter? Find(IReadOnlyList<Starter> all, string named)
    {
        Starter? Of(string? version) => all.LastOrDefault(s => s.Manifest.Version == version);
        var production = Production is null ? all is [.., var newest] ? newest : null : Of(Production);
        return named switch
        {
            "" or ProductionName => production,
            PilotName => Pilot is null ? production : Of(Pilot),
            _ => Of(named),
        };
    }

    /// <summary>The channels that a version is in.</summary>
    /// <param name="all">The starters, the newest last.</param>
    /// <param name="starter">One of them.</param>
    public IReadOnlyList<string> Of(IReadOnlyList<Starter> all, Starter starter) =>
        [.. ((string[])[ProductionName, PilotName]).Where(c => (c != PilotName || Pilot is not null) && Find(all, c) == starter)];
}
