namespace Vembar.Store.Places;

/// <summary>Tells the addresses of archives that are elsewhere from paths.</summary>
public static class PlaceAddress
{
    private static readonly string[] s_web = ["https://", "http://"];

    /// <summary>What an archive in a registry begins with.</summary>
    public const string Registry = "oci://";

    /// <summary>Whether a text is the address of something elsewhere, and not a path.</summary>
    public static bool IsRemote(string text) => IsWeb(text) || IsRegistry(text);

    /// <summary>Whether a text is the address of a file behind a web server.</summary>
    public static bool IsWeb(string text) => s_web.Any(s => text.StartsWith(s, StringComparison.OrdinalIgnoreCase));

    /// <summary>Whether a text is the address of an archive in a registry.</summary>
    public static bool IsRegistry(string text) => text.StartsWith(Registry, StringComparison.OrdinalIgnoreCase);

    /// <summary>An address as it is; the whole path of anything else.</summary>
    public static string FullName(string text) => IsRemote(text) ? text : Path.GetFullPath(text);
}
