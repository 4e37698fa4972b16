using Vembar.Core.Servicing.Files;
using Vembar.Core.Trees;

namespace Vembar.Core.Servicing.Answers;

/// <summary>Puts an answer file where Windows set-up looks for it at the first start.</summary>
/// <param name="file">The answer file outside.</param>
public sealed class AnswersChange(string file) : IChange
{
    /// <summary>Below the Windows folder: searched at first start (after the Panther/Unattend folder).</summary>
    public const string Place = "Panther/unattend.xml";

    /// <inheritdoc/>
    public IEnumerable<ChangeOutcome> Apply(ServiceContext context)
    {
        ChangeOutcome Outcome(ChangeStatus status, string why) => new("answers", file, status, why);
        if (context.Install is null)
            return [Outcome(ChangeStatus.Refused, "the image holds no Windows")];
        try
        {
            var bytes = File.ReadAllBytes(file);
            var findings = AnswerFile.Parse(bytes, file).Check(context.Install.Architecture);
            if (findings.Any(f => f.IsError))
                return [Outcome(ChangeStatus.Refused, string.Join("; ", findings.Where(f => f.IsError)))];
            var path = context.Windows(Place);
            if (TreeFiles.IsSame(context.Tree, path, bytes))
                return [Outcome(ChangeStatus.Already, $"it is at {path}")];
            context.Tree.PutFile(path, new NewContent(bytes, null, bytes.Length));
            return [Outcome(ChangeStatus.Done, string.Join("; ", (string[])[$"to {path}", .. findings.Select(f => f.ToString())]))];
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Input)
        {
            return [Outcome(ChangeStatus.Refused, problem.Message)];
        }
        catch (Exception failure) when (failure is not VembarException && VembarException.From(failure, "read the answer file", file) is { } error)
        {
            return [Outcome(ChangeStatus.Refused, error.Message)];
        }
    }
}
