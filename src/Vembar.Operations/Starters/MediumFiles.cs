using System.Text;

namespace Vembar.Operations.Starters;

/// <summary>What boot loaders find on a medium that starts machines.</summary>
internal static class MediumFiles
{
    /// <summary>The name of its file system, by which a starter knows that it was started from it.</summary>
    public const string Label = "VEMBAR_STARTER";

    /// <summary>The folder of the starter on it.</summary>
    public const string StarterFolder = "starter";

    /// <summary>The archive that it carries.</summary>
    public const string Archive = "images.vmb";

    /// <summary>The file by which the boot loader finds the medium that it belongs to, among several.</summary>
    /// <param name="id">What the medium is known by.</param>
    public static string MarkOf(string id) => $"{StarterFolder}/{id}";

    /// <summary>What a boot loader does first, wherever it was loaded from.</summary>
    public static string First(string id) => $"search.file /{MarkOf(id)} root\nset prefix=($root)/boot/grub\n";

    /// <summary>The boot loader's menu.</summary>
    /// <param name="name">The starter's name and version.</param>
    /// <param name="commandLine">What the kernel is told.</param>
    /// <param name="images">Images that the medium carries.</param>
    /// <param name="joins">Whether joining a station comes first, although there are images.</param>
    public static string Menu(string name, string commandLine, IReadOnlyList<string> images, bool joins)
    {
        var menu = new StringBuilder("set timeout=5\nset menu_color_normal=white/black\nset menu_color_highlight=black/light-gray\n");
        void Entry(string title, string more) => menu.Append("menuentry \"").Append(title).Append("\" {\n  linux /").Append(StarterFolder)
            .Append('/').Append(StarterManifest.KernelFile).Append(' ').Append(commandLine).Append(more).Append("\n  initrd /")
            .Append(StarterFolder).Append('/').Append(StarterManifest.InitialFile).Append("\n}\n");
        if (images.Count > 0)
            menu.Append("set default=").Append(joins ? 0 : 1).Append('\n');
        Entry($"{name}: join a station", "");
        if (images.Count > 0)
            Entry($"{name}: write an image from this medium, with no network", " vembar.carried=1");
        menu.Append("menuentry \"Go on to the next in the firmware's list\" {\n  exit\n}\n");
        return menu.ToString();
    }

    /// <summary>Whether a disk is such a medium, by the name in its volume descriptor (ECMA-119, 8.4.8).</summary>
    /// <param name="disk">The disk, or a file.</param>
    public static bool IsMedium(string disk)
    {
        const int NameAt = (16 * 2048) + 40;
        Span<byte> name = stackalloc byte[Label.Length];
        try
        {
            using var file = File.OpenHandle(disk, FileMode.Open, FileAccess.Read, FileShare.ReadWrite);
            return RandomAccess.Read(file, name, NameAt) == name.Length && name.SequenceEqual(Encoding.ASCII.GetBytes(Label));
        }
        catch (Exception failure) when (failure is IOException or UnauthorizedAccessException or NotSupportedException)
        {
            return false;
        }
    }

    /// <summary>Whether a text can stand on the kernel's command line in the boot loader's files.</summary>
    public static bool IsPlain(string text) => !text.Any(c => char.IsControl(c) || c
        is '$' or '`' or ';' or '{' or '}' or '"' or '\'' or '\\'
        or '|' or '&' or '<' or '>' or '#');
}
