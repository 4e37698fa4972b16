using System.Text.Json;
using Microsoft.Win32.SafeHandles;
using Vembar.Common;
using Vembar.Common.Files;
using Vembar.Common.Formats;
using Vembar.Images.Editing;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Records;
using Vembar.Native;
using Vembar.Store.Hashing;
using Vembar.Volumes.Sources;

namespace Vembar.Operations.Workspaces;

/// <summary>A folder in which an image is laid open. While one is used here, no other process uses it.</summary>
internal sealed class Workspace : IDisposable
{
    /// <summary>The folder in a workspace that is Vembar's own.</summary>
    public const string OwnFolder = WorkspaceOpened.OwnFolder;

    private const string StateFile = "workspace.json", MetadataName = "metadata.jsonl", LockFile = "lock";

    private readonly SafeFileHandle _lock;

    private Workspace(string folder, SafeFileHandle held, WorkspaceState state)
    {
        Folder = folder;
        _lock = held;
        State = state;
    }

    public string Folder { get; }

    public WorkspaceState State { get; private set; }

    public bool IsMoved => State.Folder != Path.GetFullPath(Folder);

    public string MetadataFile => Own(MetadataName);

    private string Own(string name) => Path.Combine(Folder, OwnFolder, name);

    /// <summary>Makes the folder of a new workspace.</summary>
    /// <exception cref="VembarException">It is there and not empty, or cannot be made.</exception>
    public static Workspace Create(string folder, WorkspaceState state)
    {
        if (File.Exists(folder))
            throw VembarException.Input("not-a-folder", $"'{folder}' is a file", "Name a new or empty folder.");
        if (Directory.Exists(Path.Combine(folder, OwnFolder)))
            throw VembarException.Input("is-a-workspace", $"'{folder}' is a workspace already",
                Advice.Of("is-a-workspace", ("folder", folder)));
        if (Directory.Exists(folder) && Directory.EnumerateFileSystemEntries(folder).Any())
            throw VembarException.Input("target-not-empty", $"the folder '{folder}' is not empty", "Name a new or empty folder.");
        try
        {
            Directory.CreateDirectory(Path.Combine(folder, OwnFolder));
            var workspace = new Workspace(folder, Hold(folder), state with { Folder = Path.GetFullPath(folder) });
            workspace.Save("opening");
            return workspace;
        }
        catch (Exception failure) when (failure is not VembarException
            && VembarException.From(failure, "make the workspace", folder) is { } error)
        {
            throw error;
        }
    }

    /// <summary>Uses a workspace that is there.</summary>
    /// <exception cref="VembarException">It is none, is damaged, was not finished, or another process uses it.</exception>
    public static Workspace Use(string folder, bool toClose = false)
    {
        if (!Directory.Exists(Path.Combine(folder, OwnFolder)))
            throw VembarException.Input("not-a-workspace", Directory.Exists(folder)
                ? $"'{folder}' is not a workspace: it has no folder '{OwnFolder}'"
                : $"there is no workspace '{folder}'", Advice.Of("not-a-workspace"));
        var held = Hold(folder);
        try
        {
            var state = Read(Path.Combine(folder, OwnFolder, StateFile));
            if (!toClose && state.State != "open")
            {
                throw VembarException.Input("workspace-unfinished",
                    state.State == "closing" ? $"the workspace '{folder}' was being closed when that was interrupted"
                    : $"the workspace '{folder}' was not laid open to its end",
                    Advice.Of("workspace-unfinished", ("folder", folder)));
            }
            return new Workspace(folder, held, state);
        }
        catch
        {
            Posix.Unlock(held);
            held.Dispose();
            throw;
        }
    }

    private static WorkspaceState Read(string file)
    {
        const string Hint = "Copy your changes out of the folder, and lay the image open anew.";
        try
        {
            var state = JsonSerializer.Deserialize(InputFile.ReadAllBytes(file), WorkspaceJson.Default.WorkspaceState)
                ?? throw new JsonException("it is empty");
            return state.Format <= WorkspaceState.NewestFormat ? state
                : throw VembarException.Input("newer-workspace",
                $"'{file}' is of format {state.Format}; this program reads up to {WorkspaceState.NewestFormat}",
                "Use a newer version of the program.");
        }
        catch (JsonException problem)
        {
            throw VembarException.Input("workspace-damaged", $"'{file}' is damaged: {problem.Message.Split('.')[0]}", Hint);
        }
        catch (FileNotFoundException)
        {
            throw VembarException.Input("workspace-damaged", $"'{file}' is missing", Hint);
        }
        catch (Exception failure) when (VembarException.From(failure, "read", file) is { } error)
        {
            throw error;
        }
    }

    private static SafeFileHandle Hold(string folder)
    {
        var path = Path.Combine(folder, OwnFolder, LockFile);
        try
        {
            var handle = Posix.OpenFile(path, write: true, createNew: !File.Exists(path));
            if (Posix.TryLock(handle))
                return handle;
            handle.Dispose();
        }
        catch (NativeException failure) when (VembarException.From(failure, "use the workspace", folder) is { } error)
        {
            throw error;
        }
        throw VembarException.Environment("locked", $"the workspace '{folder}' is in use by another process", "Wait for it to end.");
    }

    private string LaidFile => Own(State.Laid.Length > 0 && Path.GetFileName(State.Laid) == State.Laid ? State.Laid : "laid");

    private void Save(string state) => Save(State with { State = state, Folder = Path.GetFullPath(Folder) });

    // Whole or not at all.
    private void Save(WorkspaceState state)
    {
        Replace(StateFile, JsonSerializer.SerializeToUtf8Bytes(state, WorkspaceJson.Default.WorkspaceState));
        State = state;
    }

    private void Replace(string name, byte[] bytes)
    {
        var beside = Own(name + ".new");
        try
        {
            File.WriteAllBytes(beside, bytes);
            File.Move(beside, Own(name), overwrite: true);
        }
        catch (Exception failure) when (VembarException.From(failure, "write", Own(name)) is { } error)
        {
            throw error;
        }
    }

    /// <summary>Walks over what is there, without the workspace's own folder.</summary>
    public async Task<(FolderSource Source, SourceTree Tree)> WalkAsync(int workers, Action<long>? seen, CancellationToken cancellation)
    {
        var source = FolderSource.Open(Folder);
        try
        {
            return (source, await source.WalkAsync(new WalkOptions
            {
                Exclusions = new Exclusions([OwnFolder, $"{OwnFolder}/**"], keepAll: true),
                Seen = seen,
                Workers = workers,
            }, cancellation).ConfigureAwait(false));
        }
        catch
        {
            source.Dispose();
            throw;
        }
    }

    /// <summary>Writes what was laid, what Linux cannot hold of it, and of which image it is: all of it, or as if nothing had
    /// happened.</summary>
    /// <param name="image">The image.</param>
    /// <param name="editor">The part of it that was laid.</param>
    /// <param name="descriptors">Reads security descriptors.</param>
    /// <param name="now">What is there, with the metadata file's stamp. Of what was saved, as it was before it was read, so that whatever
    /// is
    /// written meanwhile is noticed later.</param>
    public void Remember(ImageRecord image, TreeEditor editor, Func<ChunkId, byte[]> descriptors, LaidEntry now)
    {
        var before = State.Laid.Length > 0 ? LaidFile : null;
        var laid = $"laid-{Guid.NewGuid():N}";
        // What was written into the metadata file meanwhile stays there, to be saved the next time.
        var isEdited = File.Exists(MetadataFile) && !IsStamp(StampIn(now), MetadataFile);
        if (!isEdited)
            Write(MetadataFile + Waiting, WorkspaceMetadata.Write(editor, descriptors));
        var stamp = isEdited ? StampIn(now)! : Stamp(MetadataFile + Waiting)!;
        Write(Own(laid), WorkspaceBaseline.Encode(now with { Children = [.. now.Children.Where(c => c.Name != StampName), stamp] }));
        Save(State with { State = "open", Image = image, Folder = Path.GetFullPath(Folder), Laid = laid });
        if (!isEdited)
            File.Move(MetadataFile + Waiting, MetadataFile, overwrite: true);
        if (before is not null)
            File.Delete(before);
        File.Delete(Own(PendingFile));
        File.Delete(Own(PendingLaid));
    }

    /// <summary>Notes what is about to be saved, for a run that finds that this one was killed behind its commit.</summary>
    /// <param name="image">The record that is about to be committed.</param>
    /// <param name="now">What is saved, with the metadata file's stamp.</param>
    public void Announce(ImageRecord image, LaidEntry now)
    {
        Replace(PendingLaid, WorkspaceBaseline.Encode(now));
        Replace(PendingFile, JsonSerializer.SerializeToUtf8Bytes(new PendingSave { Image = image }, WorkspaceJson.Default.PendingSave));
    }

    /// <summary>What a run that was killed was about to save; null when there is no such thing, or it cannot be told any more.</summary>
    public (ImageRecord Image, LaidEntry Now)? Announced()
    {
        if (!File.Exists(Own(PendingFile)))
            return null;
        try
        {
            var image = JsonSerializer.Deserialize(InputFile.ReadAllBytes(Own(PendingFile)), WorkspaceJson.Default.PendingSave)!.Image;
            return (image, WorkspaceBaseline.Decode(InputFile.ReadAllBytes(Own(PendingLaid))));
        }
        catch (Exception failure)
            when (failure is BinaryFormatException or JsonException or IOException or NullReferenceException or VembarException)
        {
            return null;
        }
    }

    /// <summary>Forgets what was about to be saved.</summary>
    public void Renounce()
    {
        File.Delete(Own(PendingFile));
        File.Delete(Own(PendingLaid));
    }

    private const string PendingFile = "saving.json", PendingLaid = "laid.saving";

    // A metadata file that is yet to take the older one's place.
    private const string Waiting = ".new";

    private static void Write(string path, byte[] bytes)
    {
        try
        {
            File.WriteAllBytes(path, bytes);
        }
        catch (Exception failure) when (VembarException.From(failure, "write", path) is { } error)
        {
            throw error;
        }
    }

    private const string StampName = $"{OwnFolder}/{MetadataName}";

    /// <summary>What is there, with the metadata file's stamp, of a folder that was just walked over.</summary>
    /// <param name="tree">What is there.</param>
    /// <param name="metadata">The metadata file's stamp, as it was before the file was read; null for none.</param>
    public static LaidEntry WithStamp(SourceTree tree, LaidEntry? metadata)
    {
        var root = LaidEntry.Of(tree.Root);
        return metadata is null ? root : root with { Children = [.. root.Children, metadata] };
    }

    /// <summary>What the file system says of the metadata file; null when there is none.</summary>
    public LaidEntry? MetadataStamp => Stamp(MetadataFile);

    private static LaidEntry? StampIn(LaidEntry root) => root.Children.FirstOrDefault(c => c.Name == StampName);

    private static bool IsStamp(LaidEntry? stamp, string path) => stamp is not null && Stamp(path) is { } there && there with
    {
        Children = stamp.Children,
    } == stamp;

    // The metadata file's own stamp goes with the others, under a name that no entry of an image has. Renaming does not change it.
    private static LaidEntry? Stamp(string path) => Posix.TryStat(null, PosixName.Encode(path), out var stat)
        ? new LaidEntry(StampName, EntryKind.File, stat.Size, FileTime.From(stat.Modified), 0, stat.Inode, default, []) : null;

    /// <summary>What was laid, and whether the metadata file was touched since.</summary>
    /// <exception cref="VembarException">The list is missing or damaged.</exception>
    public (LaidEntry Root, bool MetadataTouched) Laid()
    {
        try
        {
            var root = WorkspaceBaseline.Decode(InputFile.ReadAllBytes(LaidFile));
            var stamp = StampIn(root);
            // A save that was stopped before the last of its steps.
            if (!IsStamp(stamp, MetadataFile) && IsStamp(stamp, MetadataFile + Waiting))
                File.Move(MetadataFile + Waiting, MetadataFile, overwrite: true);
            if (!File.Exists(MetadataFile))
                throw VembarException.Input("workspace-damaged", $"'{MetadataFile}' is missing",
                    "Copy your changes out of the folder, and lay the image open anew.");
            return (root with { Children = [.. root.Children.Where(c => c != stamp)] }, !IsStamp(stamp, MetadataFile));
        }
        catch (BinaryFormatException problem)
        {
            throw VembarException.Input("workspace-damaged", $"'{LaidFile}': {problem.Message}",
                "Copy your changes out of the folder, and lay the image open anew.");
        }
        catch (Exception failure) when (failure is not VembarException && VembarException.From(failure, "read", LaidFile) is { } error)
        {
            throw error;
        }
    }

    /// <summary>Takes the folder away with all that is in it; links are not followed.</summary>
    /// <param name="progress">Told that it goes on.</param>
    /// <exception cref="VembarException">Something in it cannot be removed; the rest is gone, and it can be closed again.</exception>
    public void Delete(IProgress<OperationProgress> progress)
    {
        Save("closing");
        progress.Report(new OperationProgress("removing", 0, 0, false, ""));
        try
        {
            foreach (var entry in Directory.EnumerateFileSystemEntries(Folder).Where(e => Path.GetFileName(e) != OwnFolder))
            {
                if (Directory.Exists(entry) && File.ResolveLinkTarget(entry, false) is null)
                    Directory.Delete(entry, recursive: true);
                else
                    File.Delete(entry);
            }
            Directory.Delete(Path.Combine(Folder, OwnFolder), recursive: true);
            if (!Directory.EnumerateFileSystemEntries(Folder).Any())
                Directory.Delete(Folder);
        }
        catch (Exception failure) when (VembarException.From(failure, "remove", Folder) is { } error)
        {
            throw error;
        }
    }

    public void Dispose()
    {
        // A process that is just being started may hold the open file for a moment longer.
        if (!_lock.IsClosed)
            Posix.Unlock(_lock);
        _lock.Dispose();
    }
}
