using System.Diagnostics;
using Vembar.Operations;

namespace Vembar.Tests;

/// <summary>A folder that goes when the test ends.</summary>
public sealed class TempFolder : IDisposable
{
    public TempFolder() => Path = Directory.CreateTempSubdirectory("vembar-test-").FullName;

    public string Path { get; }

    public string At(string name) => System.IO.Path.Combine(Path, name);

    public string Write(string name, string text) => Write(name, System.Text.Encoding.UTF8.GetBytes(text));

    public string Write(string name, byte[] bytes)
    {
        var path = At(name);
        Directory.CreateDirectory(System.IO.Path.GetDirectoryName(path)!);
        File.WriteAllBytes(path, bytes);
        return path;
    }

    public void Dispose() => Tools.Run("rm", ["-rf", Path]);
}

/// <summary>Independent programs that our work is checked with.</summary>
public static class Tools
{
    public static string Run(string program, string[] arguments, string? folder = null)
    {
        var (code, output, error) = Try(program, arguments, folder);
        return code == 0 ? output
            : throw new InvalidOperationException($"{program} {string.Join(' ', arguments)} ended with {code}: {error}");
    }

    /// <summary>Waits until no process has a file of a folder open; those that were told to end need a moment.</summary>
    public static void NothingHolds(TempFolder folder)
    {
        const int Seconds = 60;
        for (var tries = 0; tries < 20 * Seconds; tries++)
        {
            if (!Holders(folder.Path).Any())
                return;
            Thread.Sleep(50);
        }
        throw new InvalidOperationException($"still open: {string.Join(", ", Holders(folder.Path))}");
    }

    private static IEnumerable<string> Holders(string folder)
    {
        foreach (var process in Directory.EnumerateDirectories("/proc").Where(p => char.IsAsciiDigit(Path.GetFileName(p)[0])))
        {
            string[] links;
            try
            {
                links = Directory.GetFileSystemEntries($"{process}/fd");
            }
            catch (Exception failure) when (failure is IOException or UnauthorizedAccessException)
            {
                // It ended, or is not ours.
                continue;
            }
            foreach (var target in links.Select(l => new FileInfo(l).LinkTarget).Where(t => t?.StartsWith(folder + "/",
                StringComparison.Ordinal) == true))
                yield return $"{process} {target}";
        }
    }

    public static (int Code, string Output, string Error) Try(string program, string[] arguments, string? folder = null)
    {
        var start = new ProcessStartInfo(program, arguments)
        {
            RedirectStandardOutput = true,
            RedirectStandardError = true,
            WorkingDirectory = folder ?? "",
        };
        using var process = Process.Start(start)!;
        var error = process.StandardError.ReadToEndAsync();
        var output = process.StandardOutput.ReadToEnd();
        process.WaitForExit();
        return (process.ExitCode, output, error.Result);
    }
}

public sealed class NoProgress : IProgress<OperationProgress>
{
    public static NoProgress Instance { get; } = new();

    public void Report(OperationProgress value)
    {
    }
}

/// <summary>Cancels an operation when it reaches a phase.</summary>
public sealed class StopAt(string phase, CancellationTokenSource stop) : IProgress<OperationProgress>
{
    public void Report(OperationProgress value)
    {
        if (value.Phase == phase)
            stop.Cancel();
    }
}

public static class Repository
{
    /// <summary>The project's own folder, above wherever the tests were built.</summary>
    public static string Root { get; } = Above(AppContext.BaseDirectory);

    private static string Above(string folder) =>
        File.Exists(Path.Combine(folder, "Vembar.slnx")) ? folder
        : Above(Path.GetDirectoryName(folder) ?? throw new InvalidOperationException("the tests are not inside the project"));
}
