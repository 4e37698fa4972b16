using System.Diagnostics;
using System.Text.Json;
using Vembar.Cli.Tests;
using Vembar.Demo;
using Vembar.Tests;
using Xunit;

[assembly: AssemblyFixture(typeof(World))]

namespace Vembar.Cli.Tests;

/// <summary>What a run of the program gave.</summary>
public sealed record Ran(int Code, string Output, string Error)
{
    public JsonElement Json => JsonDocument.Parse(Output).RootElement;

    /// <summary>The error of a run that failed with --json: exactly one document on standard output.</summary>
    public JsonElement JsonError => Json.GetProperty("error");
}

/// <summary>The built program, run as a process.</summary>
public static class Vembar
{
    public static string Path { get; } = Find();

    private static string Find()
    {
        var folder = new DirectoryInfo(AppContext.BaseDirectory);
        while (folder is not null && !File.Exists(System.IO.Path.Combine(folder.FullName, "Vembar.slnx")))
            folder = folder.Parent;
        var path = System.IO.Path.Combine(folder?.FullName ?? "", "out/vembar");
        return File.Exists(path) ? path : throw new InvalidOperationException("out/vembar is missing; run make build first");
    }

    public static string Repository => System.IO.Path.GetFullPath(System.IO.Path.Combine(System.IO.Path.GetDirectoryName(Path)!, ".."));

    public static Process Start(string[] arguments, Action<ProcessStartInfo>? with = null, string? program = null)
    {
        // Whoever runs the tests in the background may have it ignored, and it would be handed down.
        var start = new ProcessStartInfo("env", ["--default-signal=INT", program ?? Path, .. arguments])
        {
            RedirectStandardOutput = true,
            RedirectStandardError = true,
        };
        with?.Invoke(start);
        return Process.Start(start)!;
    }

    public static Ran Run(params string[] arguments) => Finish(Start(arguments));

    public static Ran Finish(Process process)
    {
        using (process)
        {
            var error = process.StandardError.ReadToEndAsync();
            var output = process.StandardOutput.ReadToEnd();
            process.WaitForExit();
            return new Ran(process.ExitCode, output, error.Result);
        }
    }
}

/// <summary>The demo's world and an archive with two images, made once; tests only read them.</summary>
public sealed class World : IDisposable
{
    private readonly TempFolder _folder = new();

    public World()
    {
        DemoWorld.Make(_folder.Path, 1, CancellationToken.None);
        DemoWorld.MakeDisks(_folder.Path, CancellationToken.None);
        // Also for those who are not the user that runs the tests.
        Tools.Run("chmod", ["-R", "a+rX", _folder.Path]);
        Archive = _folder.At("desks.vmb");
        foreach (var (folder, title) in DemoWorld.References.Take(2))
            Assert.Equal(0, Vembar.Run("capture", At($"references/{folder}"), Archive, "--name", title, "--version", "2026.09").Code);
    }

    public string Archive { get; }

    public string At(string path) => _folder.At(path);

    public string CopyArchive(TempFolder to)
    {
        var copy = to.At("desks.vmb");
        File.Copy(Archive, copy);
        return copy;
    }

    public void Dispose() => _folder.Dispose();
}
