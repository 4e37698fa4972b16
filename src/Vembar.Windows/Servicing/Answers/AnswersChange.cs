using Vembar.Common;
using Vembar.Common.Files;
using Vembar.Images.Nodes;
using Vembar.Images.Records;
using Vembar.Windows.Install;

namespace Vembar.Windows.Servicing.Answers;

/// <summary>Puts an answer file where Windows set-up looks for it at the first start.</summary>
/// <param name="file">The answer file outside; or a profile (.yaml, .yml), of which one is made.</param>
/// <param name="merge">Whether it is merged into the one that the image has, instead of taking its place.</param>
public sealed class AnswersChange(string file, bool merge = false) : IChange
{
    /// <summary>Below the Windows folder: searched at first start (after the Panther/Unattend folder).</summary>
    public const string Place = "Panther/unattend.xml";

    private const string Kind = "answers";

    /// <summary>Whether an image's answer file was put in by servicing, and not taken over from the reference.</summary>
    internal static bool WasMade(IEnumerable<HistoryEntry> history) =>
        history.SelectMany(h => h.Details)
        .Any(d => d.StartsWith($"{Kind} ", StringComparison.Ordinal)
            && (d.Contains(": done (", StringComparison.Ordinal) || d.Contains(": already (", StringComparison.Ordinal)));

    /// <inheritdoc/>
    public IEnumerable<ChangeOutcome> Apply(ServiceContext context)
    {
        ChangeOutcome Outcome(ChangeStatus status, string why) => new(Kind, file, status, why);
        if (context.Install is null)
            return [Outcome(ChangeStatus.Refused, "the image holds no Windows")];
        try
        {
            var isProfile = Path.GetExtension(file) is ".yaml" or ".yml";
            var bytes = isProfile ? AnswerProfile.Make(file, WindowsInstall.ArchitectureWord(context.Install.Architecture)).ToBytes()
                : InputFile.ReadAllBytes(file);
            var answers = AnswerFile.Parse(bytes, file);
            var findings = answers.Check(context.Install.Architecture);
            if (findings.Any(f => f.IsError))
                return [Outcome(ChangeStatus.Refused, string.Join("; ", findings.Where(f => f.IsError)))];
            var path = context.Windows(Place);
            var settings = 0;
            if (merge && context.Tree.ReadFile(path, AnswerFile.Longest) is { } there)
            {
                var into = AnswerFile.Parse(there, $"{context.Tree.DisplayName}: {path}");
                settings = into.Merge(answers);
                if (settings == 0)
                    return [Outcome(ChangeStatus.Already, $"what it says is in {path}")];
                bytes = into.ToBytes();
                if (into.Check(context.Install.Architecture).FirstOrDefault(f => f.IsError) is { } bad)
                    return [Outcome(ChangeStatus.Refused, $"merged with {path} it would not be right: {bad.Text}")];
            }
            else if (TreeFiles.IsSame(context.Tree, path, bytes))
                return [Outcome(ChangeStatus.Already, $"it is at {path}")];
            context.Tree.PutFile(path, new NewContent(bytes, null, bytes.Length));
            context.HasOwnAnswerFile = true;
            var how = settings > 0
                ? string.Create(System.Globalization.CultureInfo.InvariantCulture,
                $"merged into {path}, {settings} {(settings == 1 ? "setting" : "settings")} changed")
                : isProfile ? $"made from the profile, to {path}" : $"to {path}";
            return [Outcome(ChangeStatus.Done, string.Join("; ", (string[])[how, .. findings.Select(f => f.ToString())]))];
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Input)
        {
            return [Outcome(ChangeStatus.Refused,
                problem.Details.Count > 0 ? $"{problem.Message}; {string.Join("; ", problem.Details)}" : problem.Message)];
        }
        catch (Exception failure) when (failure is not VembarException
            && VembarException.From(failure, "read the answer file", file) is { } error)
        {
            return [Outcome(ChangeStatus.Refused, error.Message)];
        }
    }
}
