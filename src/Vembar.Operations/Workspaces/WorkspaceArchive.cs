using Vembar.Common;
using Vembar.Images.Editing;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Store.Hashing;
using Vembar.Store.Places;
using Vembar.Store.Reading;

namespace Vembar.Operations.Workspaces;

/// <summary>The archive that a workspace was laid open from.</summary>
internal static class WorkspaceArchive
{
    /// <summary>The tree of the image that a workspace was laid open from.</summary>
    /// <exception cref="VembarException">The archive does not hold it any more.</exception>
    public static TreeEditor Editor(ArchiveReader archive, ImageRecord image, WorkspaceState state, TimeProvider clock)
    {
        try
        {
            return new TreeEditor(new ImageTree(archive, image.Root, $"{archive.Path}#{image.Number}")) { Clock = clock };
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Damaged && archive.Images.All(i => i.Root != image.Root))
        {
            throw VembarException.Input("image-gone",
                $"'{archive.Path}' does not hold any more what the workspace '{state.Folder}' was laid open from: the image was dropped "
                + $"or replaced, and the archive compacted since", "Copy your changes out of the folder, and lay another image open.");
        }
    }

    /// <summary>Reads security descriptors of an archive.</summary>
    public static Func<ChunkId, byte[]> Descriptors(ArchiveReader archive) => id => archive.Read(id).ToArray();

    /// <summary>Brings a run to its end that was killed between the archive's commit and the workspace's own.</summary>
    /// <returns>The image that it had saved; null for none.</returns>
    public static ImageRecord? FinishSaving(Workspace workspace, ArchiveReader archive)
    {
        if (workspace.Announced() is not var (announced, now))
            return null;
        var found = archive.Images.FirstOrDefault(i => i.Root == announced.Root && i.History is [.., var last]
            && last.Action == announced.History[^1].Action && last.Time == announced.History[^1].Time);
        if (found is null)
            workspace.Renounce();
        else
            Remember(workspace, archive, found, now);
        return found;
    }

    /// <summary>Makes the workspace one of what was saved.</summary>
    public static void Remember(Workspace workspace, ArchiveReader archive, ImageRecord stored, LaidEntry now)
    {
        var laid = new TreeEditor(new ImageTree(archive, stored.Root, archive.Path));
        if (workspace.State.Only.Count > 0)
            laid.KeepOnly([.. now.Leaves(WindowsPath.Root).Where(p => !p.IsRoot && laid.Find(p) is not null)]);
        workspace.Remember(stored, laid, Descriptors(archive), now);
    }

    /// <summary>Where a workspace's archive is.</summary>
    public static ArchiveLocation PlaceOf(Workspace workspace, string? archive) => archive ?? workspace.State.Archive;

    /// <exception cref="VembarException">It is another archive.</exception>
    public static void CheckArchive(ArchiveReader archive, Workspace workspace)
    {
        if (archive.Header.Id != workspace.State.ArchiveId)
            throw VembarException.Input("other-archive",
                $"'{archive.Path}' is not the archive that '{workspace.Folder}' was laid open from", Advice.Of("other-archive"));
    }

    /// <summary>Opens a workspace's archive.</summary>
    /// <exception cref="VembarException">It is not there, or another one.</exception>
    public static ArchiveReader OpenArchive(Workspace workspace, string? given, IFileSystem files)
    {
        try
        {
            var archive = ArchiveReader.Open(PlaceOf(workspace, given), files);
            CheckArchive(archive, workspace);
            return archive;
        }
        catch (VembarException problem) when (problem.Code == "no-such-archive")
        {
            throw VembarException.Input("no-such-archive", $"{problem.Message}, which '{workspace.Folder}' was laid open from",
                Advice.Of("archive-moved"));
        }
    }
}
