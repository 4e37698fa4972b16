namespace Vembar.Operations.Starters;

/// <summary>What a starter says of itself: the file starter.json in its folder.</summary>
public sealed record StarterManifest
{
    /// <summary>The file's name.</summary>
    public const string FileName = "starter.json";

    /// <summary>The kernel's file.</summary>
    public const string KernelFile = "vmlinuz";

    /// <summary>The file of the initial file system.</summary>
    public const string InitialFile = "initial.img";

    /// <summary>The file that says which devices its modules drive, as depmod writes it.</summary>
    public const string AliasFile = "modules.alias";

    /// <summary>The form of this file: 1.</summary>
    public int Format { get; init; } = 1;

    /// <summary>What it is called.</summary>
    public required string Name { get; init; }

    /// <summary>Its version.</summary>
    public required string Version { get; init; }

    /// <summary>The version of the program in it.</summary>
    public string Program { get; init; } = "";

    /// <summary>The kernel's release.</summary>
    public required string Kernel { get; init; }

    /// <summary>The station that it joins; empty for the one that it is told of.</summary>
    public string Station { get; init; } = "";

    /// <summary>Models whose devices alone it has modules for; none for all hardware.</summary>
    public IReadOnlyList<string> Models { get; init; } = [];

    /// <summary>Its modules, by their names.</summary>
    public IReadOnlyList<string> Modules { get; init; } = [];

    /// <summary>Files of firmware in it.</summary>
    public IReadOnlyList<string> Firmware { get; init; } = [];

    /// <summary>By modules: files of firmware that they may ask for.</summary>
    public IReadOnlyDictionary<string, IReadOnlyList<string>> FirmwareOf { get; init; } = new Dictionary<string, IReadOnlyList<string>>();

    /// <summary>The packages that it was made of.</summary>
    public IReadOnlyList<StarterPackage> Packages { get; init; } = [];

    /// <summary>Boot loaders in it, for starting from the network.</summary>
    public IReadOnlyList<string> Loaders { get; init; } = [];

    /// <summary>Its files.</summary>
    public IReadOnlyList<StarterFile> Files { get; init; } = [];
}
