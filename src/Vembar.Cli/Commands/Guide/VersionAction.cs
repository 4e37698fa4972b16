using System.CommandLine;
using System.CommandLine.Invocation;
using System.Reflection;
using System.Text.Json;
using Vembar.Cli.Json;
using Vembar.Native;

namespace Vembar.Cli.Commands.Guide;

/// <summary><c>vembar --version</c>: the version, the commit that it was built from, the libraries that it works with.</summary>
internal sealed class VersionAction : SynchronousCommandLineAction
{
    /// <summary>The program's version.</summary>
    public static string Version => typeof(VersionAction).Assembly.GetName().Version!.ToString(3);

    // The build writes "version+commit".
    private static string Commit => typeof(VersionAction).Assembly.GetCustomAttribute<AssemblyInformationalVersionAttribute>()
        ?.InformationalVersion.Split('+') is [_, { Length: > 0 } commit] ? commit : "";

    public override int Invoke(ParseResult parseResult)
    {
        var libraries = LibraryVersions.All.Append((".NET", Environment.Version.ToString())).ToList();
        if (parseResult.GetValue(CommonOptions.Json))
        {
            Console.Out.WriteLine(JsonSerializer.Serialize(new VersionJson(Version, Commit,
                libraries.ToDictionary(l => l.Item1, l => l.Item2)), CliJson.Default.VersionJson));
            return ExitCode.Done;
        }
        Console.Out.WriteLine($"vembar {Version}{(Commit.Length > 0 ? $" ({Commit[..Math.Min(12, Commit.Length)]})" : "")}");
        Console.Out.WriteLine(string.Join(", ", libraries.Select(l => $"{l.Item1} {l.Item2 ?? "missing"}")));
        return ExitCode.Done;
    }
}
