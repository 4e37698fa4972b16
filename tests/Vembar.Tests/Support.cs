using System.Diagnostics;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Operations.Capture;
using Vembar.Operations.Deploy;
using Vembar.Operations.Service;
using Vembar.Operations.Verify;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Vembar.Windows.Servicing;

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

    /// <summary>Waits until no process runs whose command line matches; those that were told to end need a moment.</summary>
    public static void NothingRuns(string pattern)
    {
        const int Seconds = 60;
        var found = "";
        for (var tries = 0; tries < 20 * Seconds; tries++)
        {
            found = Run("sh", ["-c", $"pgrep -af '{pattern}' || true"]);
            if (found.Length == 0)
                return;
            Thread.Sleep(50);
        }
        throw new InvalidOperationException($"still running: {found}");
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

/// <summary>What most tests do with archives.</summary>
public static class Do
{
    public static CaptureResult Capture(string source, string archive, string name = "one",
        Func<CaptureRequest, CaptureRequest>? with = null, IFileSystem? layer = null)
    {
        var request = new CaptureRequest { Source = source, Archive = archive, Name = name };
        return CaptureOperation.Run(with is null ? request : with(request), NoProgress.Instance, CancellationToken.None, layer);
    }

    public static DeployResult Deploy(string image, string target, Func<DeployRequest, DeployRequest>? with = null)
    {
        var request = new DeployRequest { Image = ImageReference.Parse(image), Target = target, Verify = true };
        return DeployOperation.Run(with is null ? request : with(request), NoProgress.Instance, CancellationToken.None);
    }

    public static VerifyResult Verify(string archive) => VerifyOperation.Run(archive, NoProgress.Instance, CancellationToken.None);

    public static ServiceResult Service(string image, string? name, params IChange[] changes) =>
        ServiceOperation.Run(new ServiceRequest
        {
            Image = ImageReference.Parse(image),
            Changes = changes,
            As = name,
            InPlace = name is null,
        }, NoProgress.Instance, CancellationToken.None);

    public static T WithTree<T>(string archive, int number, Func<ImageTree, T> look)
    {
        using var reader = ArchiveReader.Open(archive);
        return look(new ImageTree(reader, reader.Find($"{number}").Root, archive));
    }

    /// <summary>Type, mode, time in ns, size of files, link targets and content of everything below a folder, from find and
    /// b3sum.</summary>
    public static string Listing(string folder) => Tools.Run("sh",
        ["-c", "find . \\( -type f -printf '%p %y %m %T@ %s %n\\n' -o -printf '%p %y %m %T@ %l\\n' \\) | LC_ALL=C sort; find . -type f "
        + "-print0 | LC_ALL=C sort -z | xargs -0 -r b3sum"], folder);
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
