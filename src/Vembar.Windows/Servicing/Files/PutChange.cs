using Vembar.Common;
using Vembar.Common.Files;
using Vembar.Images.Contents;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Volumes.Sources;

namespace Vembar.Windows.Servicing.Files;

/// <summary>Puts a file, or a folder with all below it, into the image.</summary>
/// <param name="source">The file or folder outside.</param>
/// <param name="target">The path in the image; a folder there, or an ending separator, means "into it".</param>
public sealed class PutChange(string source, string target) : IChange
{
    /// <summary>Reads FILE=PATH.</summary>
    /// <exception cref="VembarException">There is no '=' or nothing beside it.</exception>
    public static PutChange Parse(string text)
    {
        for (var at = text.IndexOf('='); at >= 0; at = text.IndexOf('=', at + 1))
        {
            if (Path.Exists(text[..at]) && at + 1 < text.Length)
                return new PutChange(text[..at], text[(at + 1)..]);
        }
        var first = text.IndexOf('=');
        if (first <= 0 || first + 1 == text.Length)
            throw new VembarException(ErrorKind.Usage, "bad-put", $"'{text}' is not FILE=PATH",
                Advice.Of("bad-put"));
        throw VembarException.Input("no-such-file", $"there is no file '{text[..first]}'", "Check the path in front of the '='.");
    }

    /// <inheritdoc/>
    public IEnumerable<ChangeOutcome> Apply(ServiceContext context)
    {
        var path = WindowsPath.Parse(target);
        if (Directory.Exists(source))
            return PutFolder(context, path);
        if (!File.Exists(source))
            return [new ChangeOutcome("put", path.ToString(), ChangeStatus.Refused, $"there is no file '{source}'")];
        if (target.EndsWith('/') || target.EndsWith('\\') || context.Tree.Find(path) is { Entry.Kind: EntryKind.Folder })
            path = path.Child(Path.GetFileName(source));
        return [PutFile(context, source, path)];
    }

    private List<ChangeOutcome> PutFolder(ServiceContext context, WindowsPath path)
    {
        var outcomes = new List<ChangeOutcome>();
        foreach (var file in Directory.EnumerateFiles(source, "*", SearchOption.AllDirectories).Order(StringComparer.Ordinal))
            outcomes.Add(PutFile(context, file,
                Path.GetRelativePath(source, file).Split('/').Aggregate(path, (at, name) => at.Child(name))));
        if (outcomes.Count == 0)
            outcomes.Add(new ChangeOutcome("put", source, ChangeStatus.Skipped, "the folder is empty"));
        return outcomes;
    }

    private static ChangeOutcome PutFile(ServiceContext context, string file, WindowsPath path)
    {
        ChangeOutcome Outcome(ChangeStatus status, string why) => new("put", path.ToString(), status, why);
        if (path.Parts.FirstOrDefault(p => !WindowsPath.IsUsableName(p)) is { } bad)
            return Outcome(ChangeStatus.Refused, $"'{bad}' is not a name that Windows can open");
        try
        {
            // Read when the image is saved; that it is a file is known now.
            InputFile.OpenRead(file).Dispose();
            var info = new FileInfo(file);
            var there = context.Tree.Find(path)?.Entry;
            if (there is { Kind: EntryKind.File, New: null } && there.Length == info.Length)
            {
                using var open = PosixSourceFile.Open(file);
                if (ContentComparison.Matches(open, context.Tree.PartsOf(there, path)))
                    return Outcome(ChangeStatus.Already, "the same content is there");
            }
            context.Tree.PutFile(path, new NewContent(null, Path.GetFullPath(file), info.Length), FileTime.From(info.LastWriteTimeUtc));
            return Outcome(ChangeStatus.Done, there is null ? $"from '{file}'" : $"replaced, from '{file}'") with
            {
                Bytes = info.Length - (there?.Length ?? 0),
            };
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Input)
        {
            return Outcome(ChangeStatus.Refused, problem.Message);
        }
        catch (Exception failure) when (failure is not VembarException && VembarException.From(failure, "read", file) is { } error)
        {
            return Outcome(ChangeStatus.Refused, error.Message);
        }
    }
}
