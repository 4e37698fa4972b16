using Vembar.Images.Editing;
using Vembar.Images.Paths;

namespace Vembar.Windows.Servicing.Files;

/// <summary>Takes files or folders out of the image.</summary>
/// <param name="pattern">A path, or a pattern.</param>
public sealed class RemoveChange(string pattern) : IChange
{
    /// <inheritdoc/>
    public IEnumerable<ChangeOutcome> Apply(ServiceContext context)
    {
        ChangeOutcome Outcome(string what, ChangeStatus status, string why) => new("remove", what, status, why);
        if (!Glob.IsPattern(pattern))
        {
            var path = WindowsPath.Parse(pattern);
            if (path.IsRoot)
                return [Outcome("/", ChangeStatus.Refused, "the root cannot be removed")];
            return [context.Tree.Find(path) is { } node ? Remove(node) : Outcome(path.ToString(), ChangeStatus.Already, "it is not there")];
        }
        var found = TreeFiles.Matching(context.Tree, pattern);
        return found.Count == 0 ? [Outcome(pattern, ChangeStatus.Skipped, "nothing matches")] : found.ConvertAll(Remove);

        ChangeOutcome Remove(TreeEditor.Node node)
        {
            var path = node.Path.ToString();
            var (files, bytes) = context.Tree.Remove(node);
            return Outcome(path, ChangeStatus.Done, string.Create(System.Globalization.CultureInfo.InvariantCulture,
                $"{files} file{(files == 1 ? "" : "s")}, {bytes} bytes")) with
            { Bytes = -bytes };
        }
    }
}
