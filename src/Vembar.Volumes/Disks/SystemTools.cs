using Vembar.Common;
using Vembar.Native;
using Vembar.Native.Helpers;

namespace Vembar.Volumes.Disks;

/// <summary>Programs of the system that do a part of the work.</summary>
internal static class SystemTools
{
    /// <summary>Starts a program.</summary>
    /// <exception cref="VembarException">It is not installed, or cannot be started.</exception>
    public static HelperProcess Start(string program, string package, IEnumerable<string> arguments, string doing,
        IReadOnlyDictionary<int, System.Runtime.InteropServices.SafeHandle>? files = null)
    {
        try
        {
            return HelperProcess.Start(new HelperStart(Find(program, package, doing), [.. arguments])
            {
                Environment = new Dictionary<string, string> { ["LC_ALL"] = "C" },
                Files = files ?? new Dictionary<int, System.Runtime.InteropServices.SafeHandle>(),
            });
        }
        catch (NativeException failure)
        {
            throw VembarException.Environment("program-failed", $"could not {doing}: {failure.Message}");
        }
    }

    /// <summary>The path of a program.</summary>
    /// <exception cref="VembarException">It is not installed.</exception>
    public static string Find(string program, string package, string doing) =>
        HelperProcess.Find(program) ?? throw VembarException.Environment("program-missing",
        $"could not {doing}: the program '{program}' is not installed",
            $"Install it (Debian: {package}).");

    /// <summary>Runs a program to its end.</summary>
    /// <returns>What it printed.</returns>
    /// <exception cref="VembarException">It is not installed, or it failed.</exception>
    public static string Run(string program, string package, IEnumerable<string> arguments, string doing)
    {
        using var process = Start(program, package, arguments, doing);
        var error = process.Error.ReadToEndAsync();
        var output = process.Output.ReadToEnd();
        process.WaitForExit();
        if (process.ExitCode == 0)
            return output;
        var line = (error.Result + output).Split('\n', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries)
            .LastOrDefault() ?? $"it ended with {process.ExitCode}";
        throw VembarException.Environment("program-failed", $"could not {doing}: {line}");
    }
}
