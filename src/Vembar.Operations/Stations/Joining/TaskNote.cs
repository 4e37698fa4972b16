using System.Text.Json;
using Vembar.Common;
using Vembar.Native;
using Vembar.Operations.Stations.Contract;
using Vembar.Volumes.Disks;
using Vembar.Volumes.Targets;

namespace Vembar.Operations.Stations.Joining;

/// <summary>What a machine keeps on its disk while the disk is written: the task with what the station handed to it alone, and the key by
/// which the station knows it again.</summary>
/// <param name="Key">The machine's key.</param>
/// <param name="Task">The task.</param>
public sealed record TaskNote(string Key, MachineTask Task)
{
    /// <summary>The note as it is kept.</summary>
    internal static string Write(string key, MachineTask task) =>
        JsonSerializer.Serialize(new TaskNote(key, task with
        {
            Expectations = null,
            Signers = null,
            UserFiles = task.UserFiles is { } keep ? keep with { Rules = null } : null,
        }), TaskNoteJson.Default.TaskNote);

    /// <summary>Finds what was left on a disk; null for nothing.</summary>
    internal static TaskNote? Find(string path)
    {
        try
        {
            using var disk = DiskImage.Open(path);
            if (disk.Format != DiskFormat.Raw)
                return null;
            using var device = disk.OpenDevice();
            return DiskNote.Read(device) is { } note ? JsonSerializer.Deserialize(note.Text, TaskNoteJson.Default.TaskNote) : null;
        }
        catch (Exception failure) when (failure is VembarException or NativeException or JsonException)
        {
            return null;
        }
    }

    /// <summary>Notes on a disk that all of the image is written, and user files go onto it now: if that is broken off, nothing tells what
    /// of it is whole, and the disk is begun anew.</summary>
    internal static void MarkWritten(string path)
    {
        if (Find(path) is not { } note)
            return;
        using var disk = DiskImage.Open(path, write: true);
        using var device = disk.OpenDevice();
        DiskNote.Remove(device);
        new DiskNote("", JsonSerializer.Serialize(note, TaskNoteJson.Default.TaskNote), 0, 0).Write(device);
    }

    /// <summary>Takes what was left off a disk: the station knows how the task ended.</summary>
    internal static void Remove(string path)
    {
        if (Find(path) is null)
            return;
        using var disk = DiskImage.Open(path, write: true);
        using var device = disk.OpenDevice();
        DiskNote.Remove(device);
    }
}
