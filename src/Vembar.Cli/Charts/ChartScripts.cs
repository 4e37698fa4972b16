using System.Security.Cryptography;
using System.Text;

namespace Vembar.Cli.Charts;

/// <summary>The scripts that draw charts: the library's, and ours. A page holds them whole, and says that it runs no others.</summary>
internal static class ChartScripts
{
    // The library's file ends no script: it holds no such mark.
    private static readonly Lazy<string> s_library = new(() => Read("charts/library.js"));
    private static readonly Lazy<string> s_own = new(() => Read("charts/charts.js"));

    /// <summary>What a page may do: its own styles and these scripts; nothing from elsewhere.</summary>
    public static string Policy => $"default-src 'none'; style-src 'unsafe-inline'; script-src {Hash(s_library.Value)} {Hash(s_own.Value)}";

    /// <summary>The scripts; they stand at the end of a page.</summary>
    public static string Html => $"<!-- Charts: Apache ECharts, Apache License 2.0. -->\n<script>{s_library.Value}</script>\n"
        + $"<script>{s_own.Value}</script>\n";

    private static string Hash(string script) => $"'sha256-{Convert.ToBase64String(SHA256.HashData(Encoding.UTF8.GetBytes(script)))}'";

    private static string Read(string name)
    {
        using var stream = typeof(ChartScripts).Assembly.GetManifestResourceStream(name)
            ?? throw new InvalidOperationException($"the program lacks {name}");
        using var reader = new StreamReader(stream, Encoding.UTF8);
        return reader.ReadToEnd().Replace("\r\n", "\n", StringComparison.Ordinal);
    }
}
