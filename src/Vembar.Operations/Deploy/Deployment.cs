using System.Diagnostics;
using Vembar.Common;
using Vembar.Images.Editing;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Store.Hashing;
using Vembar.Store.Reading;
using Vembar.Volumes.Targets;
using Vembar.Windows.Install;
using Vembar.Windows.Servicing.Answers;

namespace Vembar.Operations.Deploy;

/// <summary>A deployment of which all was checked that can be: what is written, and how.</summary>
/// <param name="Request">What was asked for.</param>
/// <param name="Host">What the work gets from the program that it runs in.</param>
/// <param name="Archive">The archive.</param>
/// <param name="Image">The image.</param>
/// <param name="Tree">Its tree.</param>
/// <param name="Editor">Its tree with what is this machine's own.</param>
/// <param name="Warnings">What should be known; added to.</param>
/// <param name="Progress">Told how far it is.</param>
/// <param name="Clock">Since it was begun.</param>
internal sealed record Deployment(DeployRequest Request, OperationHost Host, ArchiveReader Archive, ImageRecord Image, ImageTree Tree,
    TreeEditor Editor, List<string> Warnings, IProgress<OperationProgress> Progress, Stopwatch Clock)
{
    /// <summary>Tells what is done now.</summary>
    public void Tell(string phase) => Progress.Report(new OperationProgress(phase, 0, 0, false, ""));

    /// <summary>Tells how much of a phase is done.</summary>
    public Action<long, long, string> Telling(string phase) =>
        (done, total, current) => Progress.Report(new OperationProgress(phase, done, total, true, current));

    /// <summary>Warns of what a target could not keep.</summary>
    /// <param name="target">The target, as the subject of a sentence ("this file system cannot keep it").</param>
    /// <param name="lost">What, each with how many entries it concerns.</param>
    public void WarnOfLost(string target, IReadOnlyDictionary<string, long> lost)
    {
        if (lost.Count == 0)
            return;
        var features = lost.OrderBy(l => l.Key, StringComparer.Ordinal).Select(l => $"{l.Key} ({l.Value:#,0})");
        Warnings.Add($"not carried over, for {target}: {string.Join(", ", features)}");
    }

    /// <summary>Warns of files that were there and were not compared.</summary>
    public void WarnOfKept(int kept)
    {
        if (kept > 0 && Request.Verify)
            Warnings.Add($"{kept} {(kept == 1 ? "file that was kept was" : "files that were kept were")} not compared with the image");
    }

    /// <summary>How targets are written.</summary>
    public TargetOptions Options => new()
    {
        SkipRoomCheck = Request.SkipRoomCheck,
        Workers = Host.Workers,
        Clock = Host.Clock,
    };

    /// <summary>What tells this deployment from others: the image and what the machine's own answer file makes of it.</summary>
    public string JournalKey()
    {
        var answers = WindowsInstall.FindFolder(Editor) is { } windows
            ? Editor.ReadFile(WindowsPath.Root.Child(windows).Append(WindowsPath.Parse(AnswersChange.Place)), AnswerFile.Longest) : null;
        return answers is null ? $"{Image.Root}" : $"{Image.Root} {Blake3.Hash(answers)}";
    }

    /// <summary>What happened, with what it left behind; null when it is nothing that a user can cause.</summary>
    public static VembarException? Wrap(Exception cause, string doing, string target, string left, string hint) => cause switch
    {
        OperationCanceledException =>
            new VembarException(ErrorKind.Environment, VembarException.Interrupted, $"interrupted; {left}", hint, null, cause),
        VembarException own =>
            new VembarException(own.Kind, own.Code, $"{own.Message}; {left}", own.Hint.Length > 0 ? $"{own.Hint} {hint}" : hint,
            own.Details, own)
            {
                Advice = own.Advice,
            },
        _ => VembarException.From(cause, doing, target) is { } error
            ? new VembarException(error.Kind, error.Code, $"{error.Message}; {left}",
            error.Hint.Length > 0 ? $"{error.Hint} {hint}" : hint, error.Details, cause)
            {
                Advice = error.Advice,
            } : null,
    };
}
