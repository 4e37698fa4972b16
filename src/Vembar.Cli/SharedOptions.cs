using System.CommandLine;
using Vembar.Common;
using Vembar.Common.Files;
using Vembar.Operations;
using Vembar.Operations.Sign;
using Vembar.Store.Compression;
using Vembar.Store.Places;
using Vembar.Volumes.Disks;
using Vembar.Windows.Servicing.Drivers;

namespace Vembar.Cli;

/// <summary>Options that several commands have.</summary>
internal static class SharedOptions
{
    public static Option<double> Wait() => new("--wait")
    {
        Description = "Wait so long for another process that writes the archive",
        HelpName = "SECONDS",
        DefaultValueFactory = _ => 0,
        Validators = { result => Check(result) },
    };

    private static void Check(System.CommandLine.Parsing.OptionResult result)
    {
        if (result.Tokens.Count == 1
            && !(double.TryParse(result.Tokens[0].Value, System.Globalization.CultureInfo.InvariantCulture, out var seconds)
            && seconds is >= 0 and <= 1e6))
            result.AddError($"--wait {result.Tokens[0].Value}: a number of seconds is wanted");
    }

    /// <summary>Where bases are looked for; every command that reads an archive has it.</summary>
    public static Option<string[]> Base { get; } = new("--base")
    {
        Description = "Where the archive that a difference archive is based on lies: the file, or a folder that holds it; beside it is "
        + "looked too",
        HelpName = "PATH",
        DefaultValueFactory = _ => [],
    };

    /// <summary>Which state of an archive is read; every command that reads images has it.</summary>
    public static Option<long?> AtState { get; } = new("--at-state")
    {
        Description = "Take the archive as it was in this state, of those that `history` lists",
        HelpName = "N",
    };

    /// <summary>The version that was given; where none was, it is said how one will be made.</summary>
    public static string? VersionOf(string? given, Session session)
    {
        if (string.IsNullOrEmpty(given))
            session.Default("version", session.Project?.Versions?.Text);
        return given;
    }

    /// <summary>The archive that was named, or the project file's, with where to look for its bases.</summary>
    /// <exception cref="VembarException">None was named, and there is no project file that names one.</exception>
    public static ArchiveLocation PlaceOf(ParseResult parse, Argument<string?> archive, Session session) =>
        PlaceOf(parse, parse.GetValue(archive), session);

    /// <summary>The same, of an archive's name.</summary>
    public static ArchiveLocation PlaceOf(ParseResult parse, string? archive, Session session) =>
        new(ArchiveOf(archive, session), BasesOf(parse)) { State = parse.GetValue(AtState) };

    /// <summary>The archive that was named, or the project file's.</summary>
    /// <exception cref="VembarException">None was named, and there is no project file that names one.</exception>
    public static string ArchiveOf(string? given, Session session) => given ?? session.Default("archive", session.Project?.Archive)
        ?? throw new VembarException(ErrorKind.Usage, "no-archive", "no archive was named",
            "Name one, or write a project file that does with `vembar init`.");

    /// <summary>The image that was named; "#WHICH" alone is one of the project file's archive.</summary>
    public static ImageReference ImageOf(ParseResult parse, Argument<string> image, Session session) =>
        ImageOf(parse.GetRequiredValue(image), parse, session);

    /// <summary>The image that a text names, with the project file's archive where it names none.</summary>
    public static ImageReference ImageOf(string image, ParseResult parse, Session session) =>
        ImageReference.Parse(Whole(image, session), BasesOf(parse)) is var reference && parse.GetValue(AtState) is { } state
        ? reference with { Archive = reference.Archive with { State = state } } : reference;

    private static string[] BasesOf(ParseResult parse) => parse.GetValue(Base) ?? [];

    /// <summary>A text that may name an image, with the project file's archive where it names none.</summary>
    public static string Whole(string image, Session session) =>
        image.StartsWith('#') && !Path.Exists(image) ? ArchiveOf(null, session) + image : image;

    public static Option<string> Effort() => new Option<string>("--effort")
    {
        Description = "How hard to compress",
        HelpName = "quick|balanced|dense",
        DefaultValueFactory = _ => "balanced",
    }.AcceptOnlyFromAmong("quick", "balanced", "dense");

    public static Effort EffortOf(string word) => Enum.Parse<Effort>(word, ignoreCase: true);

    public static Argument<string> Image(string name = "IMAGE") => new(name)
    {
        Description = "The image: ARCHIVE#NUMBER, ARCHIVE#\"NAME\" (its newest version), ARCHIVE#\"NAME@VERSION\", "
        + "ARCHIVE#\"NAME@CHANNEL\" or ARCHIVE#last; the archive alone where it holds one",
    };

    public static Argument<string> Source() => new("SOURCE")
    {
        Description = "A disk image (raw, VHD, VHDX, QCOW2, VMDK, VDI), a block device, or a folder that is the root of a Windows volume",
    };

    public static Option<bool> SkipRoomCheck() => new("--skip-room-check")
    {
        Description = "Begin although there seems to be too little room",
    };

    public static Option<string?> Rules() => new("--rules")
    {
        Description = "Check the organisation's own rules too, from a YAML file; '-' reads standard input",
        HelpName = "FILE",
    };

    public static Option<string?> Report(string description = "Write the same as an HTML page") => new("--report")
    {
        Description = description,
        HelpName = "FILE",
    };

    /// <summary>The lines of a file; none where there is no file.</summary>
    /// <exception cref="VembarException">It cannot be read.</exception>
    public static IReadOnlyList<string> LinesOf(string? file)
    {
        if (file is null)
            return [];
        try
        {
            return InputFile.ReadAllLines(file);
        }
        catch (Exception failure) when (VembarException.From(failure, "read", file) is { } error)
        {
            throw error;
        }
    }

    public static Option<int?> Volume() => new("--volume")
    {
        Description = "Which volume of a disk, where it is not the one that holds Windows",
        HelpName = "N",
    };

    public static Option<bool> AcceptDamaged() => new("--accept-damaged")
    {
        Description = "Read a disk image that is cut short or was not closed properly; missing files are excluded and listed",
    };

    public static Option<string[]> AllowChain() => new("--allow-chain")
    {
        Description = "Open other files of a disk image (backing files, extents, parents) below this folder too",
        HelpName = "DIR",
        DefaultValueFactory = _ => [],
    };

    /// <summary>How a disk is opened, as the command line says.</summary>
    public static DiskReading Reading(ParseResult parse, Option<string[]> chain, Option<bool>? damaged = null) =>
        new(damaged is not null && parse.GetValue(damaged), parse.GetRequiredValue(chain));

    public static Option<string[]> For(string description) => new("--for")
    {
        Description = description,
        HelpName = "PROFILE",
        DefaultValueFactory = _ => [],
    };

    public static Option<string[]> SignedBy() => new("--signed-by")
    {
        Description = "Take images alone that the owner of this certificate signed, or somebody whom it vouches for: a file or a folder",
        HelpName = "PATH",
        DefaultValueFactory = _ => [],
    };

    /// <summary>Those who may sign images: those of the option, else the project file's; null where there are none.</summary>
    public static ImageTrust? SignersOf(ParseResult parse, Option<string[]> signers, Session session) =>
        ImageTrust.Load(parse.GetRequiredValue(signers) is { Length: > 0 } named ? named
            : session.Default("signers", session.Project?.Signers) ?? []);

    public static Option<string[]> Trust() => new("--trust")
    {
        Description = "Trust drivers that this certificate vouches for: a file, or a folder of files; beside those that VEMBAR_TRUST names",
        HelpName = "PATH",
        DefaultValueFactory = _ => [],
    };

    /// <summary>The files and folders of trusted certificates: those of the option, and those of the environment.</summary>
    public static IReadOnlyList<string> TrustPaths(ParseResult parse, Option<string[]> trust, Session session) =>
        [.. parse.GetRequiredValue(trust), .. session.Default("trust", session.Project?.Trust) ?? [],
        .. (Environment.GetEnvironmentVariable("VEMBAR_TRUST") ?? "").Split(Path.PathSeparator, StringSplitOptions.RemoveEmptyEntries)];

    public static DriverTrust TrustOf(ParseResult parse, Option<string[]> trust, Session session) =>
        DriverTrust.Load(TrustPaths(parse, trust, session));

    /// <summary>The rules that were named, or the project file's.</summary>
    public static string? RulesOf(ParseResult parse, Option<string?> rules, Session session) =>
        parse.GetValue(rules) ?? session.Default("rules", session.Project?.Rules);

    /// <summary>Hardware profiles: files, folders, or models of the project file's profiles.</summary>
    /// <exception cref="VembarException">One is not a profile, or there is no such file or model.</exception>
    public static IReadOnlyList<HardwareProfile> ProfilesOf(IReadOnlyList<string> named, Session session)
    {
        if (session.Project is not { Hardware.Count: > 0 } project || named.All(Path.Exists))
            return HardwareProfile.ReadAll(named);
        var known = HardwareProfile.ReadAll(session.Default("hardware", project.Hardware)!);
        var found = new List<HardwareProfile>(HardwareProfile.ReadAll(named.Where(Path.Exists)));
        foreach (var model in named.Where(n => !Path.Exists(n)))
        {
            found.Add(known.FirstOrDefault(k => k.Model.Equals(model, StringComparison.OrdinalIgnoreCase))
                ?? throw VembarException.Input("no-profile", $"there is no file '{model}', and no hardware profile of that model",
                    $"The project file knows {string.Join(", ", known.Select(k => k.Model))}."));
        }
        return found;
    }

    /// <summary>Names with their texts, each given as NAME=TEXT.</summary>
    public static Dictionary<string, string> Pairs(IEnumerable<string> texts, string option, string form = "NAME=TEXT")
    {
        var pairs = new Dictionary<string, string>();
        foreach (var text in texts)
        {
            var at = text.IndexOf('=');
            if (at <= 0)
                throw new VembarException(ErrorKind.Usage, $"bad-{option.TrimStart('-')}", $"'{text}' is not {form}",
                    $"Write {option} site=valley.");
            pairs[text[..at]] = text[(at + 1)..];
        }
        return pairs;
    }

    public static Argument<string?> Archive(string description) => new("ARCHIVE")
    {
        Description = $"{description}; the project file's where none is named",
        Arity = ArgumentArity.ZeroOrOne,
        DefaultValueFactory = _ => null,
    };
}
