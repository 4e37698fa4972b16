using Vembar.Common;
using Vembar.Common.Formats;
using Vembar.Images.Paths;
using YamlDotNet.RepresentationModel;

namespace Vembar.Windows.UserData;

/// <summary>What is kept of the files that users made. docs/user-files.md.</summary>
public sealed record KeepRules
{
    /// <summary>The rules where nobody gives others, as a file of rules.</summary>
    public const string Usual = """
        # What is kept of each account's files: patterns below the folder of its profile.
        keep:
          - Documents/**
          - Desktop/**
          - Pictures/**
          - Favorites/**
          - AppData/Local/*/*/User Data/*/Bookmarks
          - AppData/Roaming/*/*/Profiles/*/places.sqlite

        # Profiles of these accounts are kept whole, with the settings of their programs: domain or none.
        whole-profiles: domain

        # What is never kept, also of a profile that is kept whole.
        leave-out:
          - AppData/Local/Temp/**
          - AppData/Local/CrashDumps/**
          - AppData/Local/Microsoft/Windows/INetCache/**
          - AppData/Local/Microsoft/Windows/WebCache/**
          - AppData/Local/Microsoft/Windows/Explorer/thumbcache_*.db
          - AppData/Local/Microsoft/Windows/Explorer/iconcache_*.db
          - AppData/Local/Packages/*/AC/**
          - AppData/Local/Packages/*/LocalCache/**
          - AppData/Local/Packages/*/TempState/**
          - AppData/**/Cache/**
          - AppData/**/Code Cache/**
          - AppData/**/GPUCache/**
          - AppData/**/Service Worker/CacheStorage/**

        # Accounts that nothing is kept of, by the names of their profiles' folders.
        skip-accounts: []

        # What is kept outside of profiles, to be put back at the same place: patterns from the root of the volume.
        elsewhere: []

        """;

    private const string What = "a file of rules for user files", Code = "bad-keep-rules", Page = "docs/user-files.md";

    /// <summary>Patterns below a profile of what is kept.</summary>
    public required IReadOnlyList<string> Keep { get; init; }

    /// <summary>Patterns below a profile of what is not.</summary>
    public IReadOnlyList<string> LeaveOut { get; init; } = [];

    /// <summary>Whether profiles of accounts of a domain are kept whole.</summary>
    public bool WholeDomainProfiles { get; init; }

    /// <summary>Names of accounts that nothing is kept of; patterns.</summary>
    public IReadOnlyList<string> SkipAccounts { get; init; } = [];

    /// <summary>Patterns from the root of what is kept outside of profiles.</summary>
    public IReadOnlyList<string> Elsewhere { get; init; } = [];

    /// <summary>Reads a file of rules.</summary>
    /// <param name="path">The file; null for the usual rules.</param>
    /// <exception cref="VembarException">It is not there or not one; all mistakes are told with their lines.</exception>
    public static KeepRules Read(string? path) =>
        From(path is null ? YamlFile.Parse(Usual, "usual rules", What, Code, Page) : YamlFile.Load(path, What, Code, Page));

    /// <summary>Reads rules from a text.</summary>
    /// <param name="text">The text of a file of rules.</param>
    /// <param name="name">What it is called in messages.</param>
    /// <exception cref="VembarException">It is not one; all mistakes are told with their lines.</exception>
    public static KeepRules Parse(string text, string name) => From(YamlFile.Parse(text, name, What, Code, Page));

    private static KeepRules From(YamlFile yaml)
    {
        yaml.Known(yaml.Root, ["keep", "leave-out", "whole-profiles", "skip-accounts", "elsewhere"]);
        YamlNode? At(string key) => yaml.Root.Children.FirstOrDefault(c => (c.Key as YamlScalarNode)?.Value == key).Value;
        List<string> Patterns(string key)
        {
            var patterns = yaml.Texts(At(key));
            foreach (var pattern in patterns)
            {
                try
                {
                    _ = Glob.Parse(pattern);
                }
                catch (VembarException problem)
                {
                    yaml.Wrong(At(key)!, problem.Message);
                }
            }
            return patterns;
        }
        var whole = (At("whole-profiles") as YamlScalarNode)?.Value ?? "domain";
        if (whole is not ("domain" or "none"))
            yaml.Wrong(At("whole-profiles")!, $"'{whole}' is not known here: whole-profiles is domain or none");
        var rules = new KeepRules
        {
            Keep = Patterns("keep"),
            LeaveOut = Patterns("leave-out"),
            WholeDomainProfiles = whole == "domain",
            SkipAccounts = yaml.Texts(At("skip-accounts")),
            Elsewhere = Patterns("elsewhere"),
        };
        if (yaml.IsSound && rules is { Keep.Count: 0, WholeDomainProfiles: false, Elsewhere.Count: 0 })
            yaml.Wrong("it keeps nothing");
        yaml.Throw();
        return rules;
    }

    /// <summary>Whether an account is among those that something is kept of.</summary>
    public bool Takes(UserAccount account) =>
        !SkipAccounts.Any(p => Glob.ParseName(p).Matches([account.Name]));
}
