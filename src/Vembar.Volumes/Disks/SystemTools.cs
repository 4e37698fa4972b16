using System.Diagnostics;
using Vembar.Common;

namespace Vembar.Volumes.Disks;

/// <summary>Programs of the system that do a part of the work.</summary>
internal static class SystemTools
{
    /// <summary>Starts a program.</summary>
    /// <exception cref="VembarException">It is not installed.</exception>
    public static Process Start(string program, string package, IEnumerable<string> arguments, string doing)
    {
        var start = new ProcessStartInfo(Find(program, package, doing), arguments)
        {
            RedirectStandardInput = true,
            RedirectStandardOutput = true,
            RedirectStandardError = true,
        };
        start.Environment["LC_ALL"] = "C";
        var process = Process.Start(start)!;
        process.StandardInput.Close();
        return process;
    }

    /// <summary>The path of a program.</summary>
    /// <exception cref="VembarException">It is not installed.</exception>
    public static string Find(string program, string package, string doing) =>
        // Programs that format disks lie where an ordinary user's path does not lead.
        (Environment.GetEnvironmentVariable("PATH") ?? "").Split(':').Concat(["/usr/sbin", "/sbin", "/usr/bin"])
            .Select(folder => Path.Combine(folder, program)).FirstOrDefault(File.Exists)
            ?? throw VembarException.Environment("program-missing", $"could not {doing}: the program '{program}' is not installed",
            $"Install it (Debian: {package}).");

    /// <summary>Runs a program to its end.</summary>
    /// <returns>What it printed.</returns>
    /// <exception cref="VembarException">It is not installed, or it failed.</exception>
    public static string Run(string program, string package, IEnumerable<string> arguments, string doing)
    {
        using var process = Start(program, package, arguments, doing);
        var error = process.StandardError.ReadToEndAsync();
        var output = process.StandardOutput.ReadToEnd();
        process.WaitForExit();
        if (process.ExitCode == 0)
            return output;
        var line = (error.Result + output).Split('\n', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries)
            .LastOrDefault() ?? $"it ended with {process.ExitCode}";
        throw VembarException.Environment("program-failed", $"could not {doing}: {line}");
    }
}
