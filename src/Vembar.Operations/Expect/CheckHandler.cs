using Vembar.Common;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Store.Reading;
using Vembar.Windows.Inspection;
using Vembar.Windows.Install;
using Vembar.Windows.Servicing.Answers;

namespace Vembar.Operations.Expect;

/// <summary>Looks whether an install is what a file of expectations says.</summary>
public sealed class CheckHandler(OperationHost host) : IOperationHandler<CheckRequest, CheckResult>
{
    /// <summary>Looks; nothing is written.</summary>
    /// <exception cref="VembarException">What is to be looked at cannot be read or holds no Windows, or the file is not right.</exception>
    public Task<CheckResult> HandleAsync(CheckRequest request, IProgress<OperationProgress> progress, CancellationToken cancellation) =>
        Task.Run(() => Check(request), cancellation);

    private CheckResult Check(CheckRequest request)
    {
        var problems = new List<VembarException>();
        var rules = Checks.Collect(problems, () => ReadinessRule.ReadExpectations(request.Expectations));
        if (request.Image is { } reference)
        {
            using var archive = Checks.Collect(problems, () => ArchiveReader.Open(reference.Archive, host.Files));
            var image = archive is null ? null : Checks.Collect(problems, () => archive.Find(reference.Which, host.Clock));
            Checks.Throw(problems);
            var displayName = $"{archive!.Path}#{image!.Number}";
            var tree = new ImageTree(archive, image.Root, displayName);
            return Look(displayName, tree, rules!, new ReadinessOptions
            {
                IsImage = true,
                OwnAnswerFile = WindowsInstall.FindFolder(tree) is { } folder && AnswersChange.WasMade(image.History)
                    ? $"{folder}/{AnswersChange.Place}" : null,
            });
        }
        using var found = Checks.Collect(problems, () => ResolvedSource.Open(request.What, request.Volume, request.Reading));
        Checks.Throw(problems);
        return Look(request.What, found!.Source, rules!, new ReadinessOptions());
    }

    private static CheckResult Look(string what, IReadOnlyTree source, IReadOnlyList<ReadinessRule> rules, ReadinessOptions options)
    {
        WindowsInstall? install = null;
        try
        {
            install = WindowsInstall.Read(source);
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Input)
        {
            // Each expectation that needs it says so.
        }
        return new CheckResult(what, install,
            [.. ReadinessCheck.Look(source, rules, options).Select(o => new ExpectationOutcome(o.Rule.Word,
            o.Rule.Severity, o.Rule.Text, o.Finding is null, o.Finding?.Found ?? "", o.Finding?.Remedy ?? ""))]);
    }
}
