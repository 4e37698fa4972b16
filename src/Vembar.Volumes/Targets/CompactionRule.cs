using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Volumes.Compaction;

namespace Vembar.Volumes.Targets;

/// <summary>Decides which files are written compacted, and in which form.</summary>
/// <param name="choice">What was asked for.</param>
internal sealed class CompactionRule(CompactionChoice choice)
{
    // Of less there is nothing to be saved: a file takes whole clusters.
    private const long Least = 8 << 10;

    private static readonly string[] s_programs =
        [".exe", ".dll", ".ocx", ".cpl", ".scr", ".mui", ".com", ".ax", ".tsp", ".drv", ".acm", ".winmd"];

    // What is read before the driver that expands compacted files runs.
    private static readonly string[] s_startFolders = ["Boot/", "System32/Boot/", "System32/drivers/", "System32/DriverStore/",
        "System32/config/", "System32/CatRoot/", "System32/CodeIntegrity/"];
    private static readonly Glob[] s_startFiles =
        [.. ((string[])["ntoskrnl.exe", "ntkrnlmp.exe", "hal.dll", "ci.dll", "clfs.sys", "bootvid.dll", "pshed.dll", "tm.sys",
        "mcupdate_*", "kd*.dll", "winload.*", "winresume.*", "hvloader.*", "hvix64.exe", "hvax64.exe", "apisetschema.dll", "ntdll.dll",
        "smss.exe"]).Select(Glob.Parse)];

    /// <summary>The form for a file; none for one that is written plain.</summary>
    /// <param name="entry">The file.</param>
    /// <param name="path">Its path.</param>
    public CompactedForm FormFor(TreeEntry entry, WindowsPath path)
    {
        if (choice == CompactionChoice.None || entry.Kind != EntryKind.File || entry.Length < Least || entry.Reparse is not null
            || entry.New is not null
            || entry.Attributes is { } attributes
            && (attributes & (WindowsAttributes.Compressed | WindowsAttributes.Encrypted | WindowsAttributes.System)) != 0)
            return CompactedForm.None;
        return entry.Compaction switch
        {
            // LZX is read, not written: the densest of those that are stands in.
            CompactedForm.Lzx => CompactedForm.Xpress16K,
            CompactedForm.None when choice == CompactionChoice.Programs && IsProgram(path) => CompactedForm.Xpress8K,
            var form => form,
        };
    }

    private static bool IsProgram(WindowsPath path)
    {
        if (!s_programs.Any(e => path.Name.EndsWith(e, StringComparison.OrdinalIgnoreCase)) || path.Parts.Count < 2)
            return false;
        if (!path.Parts[0].Equals("Windows", StringComparison.OrdinalIgnoreCase))
            return path.Parts[0].StartsWith("Program Files", StringComparison.OrdinalIgnoreCase);
        var below = string.Join('/', path.Parts.Skip(1));
        return !s_startFolders.Any(f => below.StartsWith(f, StringComparison.OrdinalIgnoreCase))
            && !(path.Parts.Count <= 3 && s_startFiles.Any(f => f.Matches([path.Name])));
    }
}
