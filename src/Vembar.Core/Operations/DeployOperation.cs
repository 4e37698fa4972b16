using System.Diagnostics;
using Vembar.Core.Archives;
using Vembar.Core.Servicing;
using Vembar.Core.Servicing.Answers;
using Vembar.Core.Targets;
using Vembar.Core.Trees;

namespace Vembar.Core.Operations;

/// <summary>Which image goes where, and how.</summary>
public sealed record DeployRequest
{
    /// <summary>The image.</summary>
    public required ImageReference Image { get; init; }

    /// <summary>The folder; made when there is none (but not the folders above it).</summary>
    public required string Target { get; init; }

    /// <summary>Whether the folder may hold files already; they are left as they are.</summary>
    public bool KeepExisting { get; init; }

    /// <summary>An answer file for this machine.</summary>
    public string? Answers { get; init; }

    /// <summary>The name that this machine's answer file gives it.</summary>
    public string? ComputerName { get; init; }

    /// <summary>Whether to read everything back and compare.</summary>
    public bool Verify { get; init; }
}

/// <summary>What a deployment did.</summary>
/// <param name="Image">The image.</param>
/// <param name="Target">Where it went.</param>
/// <param name="Files">Files and links written.</param>
/// <param name="Bytes">Bytes written.</param>
/// <param name="Seconds">Time taken.</param>
/// <param name="Kept">Files that were there and were left as they are.</param>
/// <param name="Differences">What reading back found; empty when all is right or nothing was read back.</param>
/// <param name="Verified">Whether everything was read back.</param>
/// <param name="Warnings">What should be known.</param>
public sealed record DeployResult(
    ImageRecord Image, string Target, long Files, long Bytes, double Seconds, IReadOnlyList<string> Kept, IReadOnlyList<string> Differences, bool Verified, IReadOnlyList<string> Warnings);

/// <summary>Writes an image into a folder.</summary>
public static class DeployOperation
{
    /// <summary>Checks everything that can be checked, then writes.</summary>
    /// <exception cref="VembarException">Something is in the way; what was written is taken away again.</exception>
    /// <exception cref="OperationCanceledException">It was interrupted; what was written is taken away again.</exception>
    public static DeployResult Run(DeployRequest request, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var clock = Stopwatch.StartNew();
        var problems = new List<VembarException>();
        using var archive = Checks.Collect(problems, () => ArchiveReader.Open(request.Image.Archive));
        var image = archive is null ? null : Checks.Collect(problems, () => archive.Find(request.Image.Which));
        Checks.Collect(problems, () =>
        {
            CheckTarget(request, image);
            return "";
        });
        if (request.ComputerName is { } name && AnswerFile.ComputerNameProblem(name) is { } problem)
            problems.Add(new VembarException(ErrorKind.Usage, "bad-computer-name", problem, "Use up to 15 letters, digits and hyphens, not digits alone."));
        Checks.Throw(problems);

        var warnings = new List<string>();
        var tree = new ImageTree(archive!, image!.Root, $"{archive!.Path}#{image.Number}");
        var editor = new TreeEditor(tree);
        if (request.Answers is not null || request.ComputerName is not null)
            Personalise(request, editor, warnings);

        var made = !Directory.Exists(request.Target);
        try
        {
            if (made)
                Directory.CreateDirectory(request.Target);
            using var target = new FolderTarget(request.Target, editor, tree, archive, request.KeepExisting);
            progress.Report(new OperationProgress("looking", 0, 0, false, ""));
            target.Plan(cancellation);
            target.Write((done, total, current) => progress.Report(new OperationProgress("writing files", done, total, true, current)), cancellation);
            var differences = request.Verify
                ? target.Verify((done, total, current) => progress.Report(new OperationProgress("reading back", done, total, true, current)), cancellation) : [];
            if (target.Lost.Count > 0)
                warnings.Add($"this file system cannot keep: {string.Join(", ", target.Lost.OrderBy(l => l.Key, StringComparer.Ordinal).Select(l => $"{l.Key} ({l.Value})"))}");
            return new DeployResult(image, request.Target, target.Files, target.Bytes, clock.Elapsed.TotalSeconds, [.. target.Kept], differences, request.Verify, warnings);
        }
        catch (Exception failure)
        {
            if (made && Directory.Exists(request.Target) && !Directory.EnumerateFileSystemEntries(request.Target).Any())
                Directory.Delete(request.Target);
            var cause = failure is AggregateException { InnerExceptions: [var first, ..] } ? first : failure;
            if (cause is not VembarException && VembarException.From(cause, "write into", request.Target) is { } error)
                throw error;
            if (cause != failure)
                System.Runtime.ExceptionServices.ExceptionDispatchInfo.Throw(cause);
            throw;
        }
    }

    private static void CheckTarget(DeployRequest request, ImageRecord? image)
    {
        var full = Path.GetFullPath(request.Target);
        var folder = full;
        if (File.Exists(full))
            throw VembarException.Input("not-a-folder", $"the target '{request.Target}' is a file", "Name a folder.");
        if (Directory.Exists(full))
        {
            if (!request.KeepExisting && Directory.EnumerateFileSystemEntries(full).Any())
                throw VembarException.Input("target-not-empty", $"the target folder '{request.Target}' is not empty", "Name an empty or new folder, or keep what is there with --keep-existing.");
        }
        else
        {
            folder = Path.GetDirectoryName(Path.TrimEndingDirectorySeparator(full));
            if (folder is null || !Directory.Exists(folder))
                throw VembarException.Input("no-such-folder", $"there is no folder '{folder}' to make the target '{request.Target}' in", "Check the path, or make the folder.");
        }
        if (!Checks.MayWrite(folder))
            throw VembarException.Surroundings("no-permission", $"'{folder}' cannot be written", "Choose another target, or run as a user who may write there.");
        var free = new DriveInfo(folder).AvailableFreeSpace;
        if (image is not null && !request.KeepExisting && free < image.Bytes)
            throw VembarException.Surroundings("no-room", $"the image takes {image.Bytes} bytes, '{request.Target}' has room for {free}", "Make room there, or choose another target.");
    }

    private static void Personalise(DeployRequest request, TreeEditor editor, List<string> warnings)
    {
        using var context = new ServiceContext(editor);
        if (context.Install is not { } install)
            throw VembarException.Input("no-windows", $"{editor.Shown} holds no Windows, so it takes no answer file and no computer name", "Leave out --answers and --computer-name.");
        if (request.Answers is not null)
        {
            var outcome = new AnswersChange(request.Answers).Apply(context).Single();
            if (outcome.Status == ChangeStatus.Refused)
                throw VembarException.Input("bad-answer-file", outcome.Why, $"Mend '{request.Answers}' and run it again.");
        }
        if (request.ComputerName is null)
            return;
        if (install.State is not ("generalized" or "generalized-audit"))
            warnings.Add($"the install is {install.State}, not generalized: Windows reads the computer name from the answer file only at the first start of a generalized install");
        const long LongestAnswerFile = 16 << 20;
        var path = context.Windows(AnswersChange.Place);
        var answers = editor.ReadFile(path, LongestAnswerFile) is { } bytes ? AnswerFile.Parse(bytes, path.ToString()) : AnswerFile.Empty();
        answers.SetComputerName(request.ComputerName, install.Architecture);
        var changed = answers.ToBytes();
        editor.PutFile(path, new NewContent(changed, null, changed.Length));
    }
}
