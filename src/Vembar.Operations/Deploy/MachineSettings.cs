using Vembar.Common;
using Vembar.Images.Editing;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Windows.Install;
using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Answers;

namespace Vembar.Operations.Deploy;

/// <summary>Puts what is one machine's own into the tree that is deployed to it.</summary>
internal static class MachineSettings
{
    /// <summary>Puts in the answer file and the computer name.</summary>
    /// <exception cref="VembarException">The image takes none, or the file is not right.</exception>
    public static void Apply(DeployRequest request, TreeEditor editor, List<string> warnings)
    {
        var context = new ServiceContext(editor);
        if (context.Install is not { } install)
            throw VembarException.Input("no-windows",
                $"{editor.DisplayName} holds no Windows, so it takes no answer file and no computer name",
                Advice.Of("not-windows"));
        if (request.Answers is not null)
        {
            var outcome = new AnswersChange(request.Answers).Apply(context).Single();
            if (outcome.Status == ChangeStatus.Refused)
                throw VembarException.Input("bad-answer-file", outcome.Why, $"Fix '{request.Answers}' and run it again.");
        }
        if (request.ComputerName is null)
            return;
        if (install.State is not ("generalized" or "generalized-audit"))
            warnings.Add($"the install is {install.State}, not generalized: Windows reads the computer name from the answer file only "
                + $"at the first start of a generalized install");
        var path = context.Windows(AnswersChange.Place);
        var answers = editor.ReadFile(path, AnswerFile.Longest) is { } bytes ? AnswerFile.Parse(bytes, path.ToString())
            : AnswerFile.Empty();
        answers.SetComputerName(request.ComputerName, install.Architecture);
        var changed = answers.ToBytes();
        editor.PutFile(path, new NewContent(changed, null, changed.Length));
    }

    /// <summary>Fills in what stands between {{ and }}: a machine that meets {{serial}} stops at its first start and asks.</summary>
    public static void FillIn(DeployRequest request, TreeEditor editor, List<string> warnings, bool isDisk)
    {
        var path = WindowsInstall.FindFolder(editor) is { } windows
            ? WindowsPath.Root.Child(windows).Append(WindowsPath.Parse(AnswersChange.Place)) : null;
        var bytes = path is null ? null : editor.ReadFile(path, AnswerFile.Longest);
        var answers = bytes is not null && bytes.AsSpan().IndexOf("{{"u8) >= 0 ? AnswerFile.Parse(bytes, path!.ToString()) : null;
        var wanted = answers?.Placeholders ?? [];
        if (request.Fill.Keys.FirstOrDefault(n => !wanted.Contains(n)) is { } unknown)
        {
            throw VembarException.Input("no-such-placeholder", $"the answer file of {editor.DisplayName} has no {{{{{unknown}}}}}",
                wanted.Count > 0 ? Advice.Of("known-placeholders", ("value", string.Join(", ", wanted.Select(w => $"{{{{{w}}}}}"))))
                : bytes is null ? Advice.Of("no-answer-file") : Advice.Of("no-placeholders"));
        }
        if (answers is null || wanted.Count == 0)
            return;
        answers.Fill(request.Fill);
        if (request.Fill.Count > 0)
        {
            var changed = answers.ToBytes();
            editor.PutFile(path!, new NewContent(changed, null, changed.Length));
        }
        if (answers.Placeholders is not { Count: > 0 } left)
        {
            if (answers.Check(null).FirstOrDefault(f => f.IsError) is { } wrong)
                throw VembarException.Input("bad-answer-file", $"with what was filled in, the answer file is not right: {wrong.Text}",
                    Advice.Of("bad-answer-file"));
        }
        else
        {
            var what = $"the answer file still has {string.Join(", ", left.Select(w => $"{{{{{w}}}}}"))}";
            if (isDisk)
                throw VembarException.Input("placeholders-left", $"{what}, and the machine would stop at it at its first start",
                    Advice.Of("placeholders-left", ("names", string.Join(' ', left))));
            warnings.Add(what);
        }
    }
}
