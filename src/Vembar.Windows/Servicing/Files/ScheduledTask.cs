using Vembar.Images.Paths;

namespace Vembar.Windows.Servicing.Files;

/// <summary>Scheduled tasks: a file in System32/Tasks, and what the scheduler keeps in SOFTWARE.</summary>
internal static class ScheduledTask
{
    private const string Cache = @"Microsoft\Windows NT\CurrentVersion\Schedule\TaskCache";

    /// <summary>Takes tasks out.</summary>
    /// <returns>How many were there.</returns>
    public static int Remove(ServiceContext context, Removal away, string pattern)
    {
        var root = context.Windows("System32/Tasks");
        var wanted = pattern.Replace('\\', '/').Trim('/');
        var found = Glob.IsPattern(wanted) ? TreeFiles.Matching(context.Tree, $"{root}/{wanted}")
            : context.Tree.Find(root.Append(WindowsPath.Parse(wanted))) is { } one ? [one] : [];
        foreach (var node in found)
        {
            var path = string.Join('\\', node.Path.Parts.Skip(root.Parts.Count));
            away.Take(node);
            if (context.Hive("SOFTWARE") is not { } software || software.Key($@"{Cache}\Tree\{path}") is not { } entry)
                continue;
            if (entry.GetString("Id") is { Length: > 0 } id && !id.Contains('\\'))
            {
                foreach (var list in (string[])["Tasks", "Boot", "Logon", "Plain", "Maintenance"])
                    software.Key($@"{Cache}\{list}\{id}")?.Delete();
            }
            entry.Delete();
            context.MarkModified("SOFTWARE");
        }
        return found.Count;
    }
}
