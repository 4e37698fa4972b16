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

/// <summary>The built program, run as a process: the one for the runtime, or the one in the folder that VEMBAR_OUT names, below the
/// repository.</summary>
public static class Vembar
{
    public static string Repository => global::Vembar.Tests.Repository.Root;

    /// <summary>The folder of the built program and station.</summary>
    public static string Out { get; } = System.IO.Path.Combine(Repository,
        Environment.GetEnvironmentVariable("VEMBAR_OUT") is { Length: > 0 } folder ? folder : "out-runtime");

    public static string Path { get; } = Existing("vembar");

    public static string Station => Existing("station/vembar-station");

    private static string Existing(string name) => System.IO.Path.Combine(Out, name) is var path && File.Exists(path) ? path
        : throw new InvalidOperationException($"{path} is missing; run `make build` or `make build JIT=true` first");

    /// <summary>Skips a test of what holds for the program that is compiled ahead of time alone.</summary>
    public static void DemandAheadOfTime() =>
        Assert.SkipWhen(File.Exists(System.IO.Path.Combine(Out, "vembar.dll")), "needs the program compiled ahead of time: VEMBAR_OUT=out");

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

    /// <summary>Runs it, and demands that it refuses in few lines, and with one JSON document where --json is given.</summary>
    /// <param name="code">The exit code.</param>
    /// <param name="part">What its message contains.</param>
    /// <param name="arguments">The command line.</param>
    public static void Refused(int code, string part, params string[] arguments)
    {
        var plain = Run(arguments);
        Assert.Equal((code, ""), (plain.Code, plain.Output));
        Assert.StartsWith("vembar: ", plain.Error, StringComparison.Ordinal);
        Assert.Contains(part, plain.Error, StringComparison.Ordinal);
        Assert.DoesNotContain("   at ", plain.Error, StringComparison.Ordinal);
        Assert.InRange(plain.Error.Split('\n').Length, 2, 12);
        var json = Run([.. arguments, "--json"]);
        Assert.Equal(code, json.Code);
        Assert.NotEqual("", json.JsonError.GetProperty("code").GetString());
        Assert.Equal(["code", "message", "hint", "details"], json.JsonError.EnumerateObject().Select(p => p.Name));
    }

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
