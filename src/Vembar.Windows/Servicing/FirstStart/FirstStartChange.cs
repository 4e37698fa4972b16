using System.Globalization;

namespace Vembar.Windows.Servicing.FirstStart;

/// <summary>Has a command run once at the first start, behind those that are there.</summary>
/// <param name="command">The command; a name is made when it is empty.</param>
public sealed class FirstStartChange(FirstStartCommand command) : IChange
{
    /// <inheritdoc/>
    public IEnumerable<ChangeOutcome> Apply(ServiceContext context)
    {
        ChangeOutcome Outcome(ChangeStatus status, string why) => new("first-start", command.Command, status, why);
        if (context.Install is null)
            return [Outcome(ChangeStatus.Refused, "the image holds no Windows")];
        var windows = context.Windows("");
        var script = FirstStartScript.Read(context.Tree, windows);
        var named = command;
        if (command.Name.Length == 0)
        {
            if (script.Commands.FirstOrDefault(c => c.Command == command.Command) is { } there)
                return [Outcome(ChangeStatus.Already, $"it runs as '{there.Name}'")];
            named = command with
            {
                Name = Enumerable.Range(1, int.MaxValue).Select(n => string.Create(CultureInfo.InvariantCulture, $"command {n}"))
                .First(n => script.Commands.All(c => c.Name != n)),
            };
        }
        if (FirstStartScript.Problem(named) is { } problem)
            return [Outcome(ChangeStatus.Refused, problem)];
        if (!script.Set(named))
            return [Outcome(ChangeStatus.Already, $"it runs as '{named.Name}'")];
        script.Write(context.Tree, windows);
        return [Outcome(ChangeStatus.Done,
            $"runs once as '{named.Name}', in {FirstStartScript.PathIn(windows)}; its log will be beside it")];
    }
}
