using Vembar.Common;
using Vembar.Images.Paths;
using Vembar.Native;
using Vembar.Volumes.Disks;
using Vembar.Volumes.Sources;

namespace Vembar.Volumes.Targets;

/// <summary>Single files of an NTFS volume that is written.</summary>
internal static class VolumeFile
{
    private const string NewName = ".vembar-new";

    /// <summary>Puts another content in the place of a file's, with the attributes, rights and times of creation that it has. The new file
    /// is whole before the old one goes.</summary>
    /// <param name="volume">The volume, to be written.</param>
    /// <param name="path">The file.</param>
    /// <param name="bytes">The content.</param>
    /// <param name="time">When it was changed, in 100 ns since 1601.</param>
    /// <exception cref="NativeException">There is no such file, or it cannot be written.</exception>
    public static void Replace(NtfsVolume volume, WindowsPath path, byte[] bytes, long time)
    {
        var folder = FolderOf(volume, path);
        NtfsFile Open(string name) => Find(volume, folder, name) is { } found ? volume.Open(found, path.ToString())
            : throw new NativeException("find", path.ToString(), Errno.NotFound);
        void Remove(string name)
        {
            using var parent = volume.Open(folder, path.ToString());
            using var file = Open(name);
            file.DeleteAndClose(parent, name);
        }
        var fresh = path.Name + NewName;
        // What a run left that was broken off.
        if (Find(volume, folder, fresh) is not null)
            Remove(fresh);
        string name;
        using (var parent = volume.Open(folder, path.ToString()))
        {
            using var old = Open(path.Name);
            var described = old.Describe();
            // As the volume has it: the path may have another case.
            name = described.Names.FirstOrDefault(n => n.IsLong && n.Name.Equals(path.Name, StringComparison.OrdinalIgnoreCase)).Name
                ?? path.Name;
            using var file = volume.Create(parent, fresh, isFolder: false, old.SecurityId, path.ToString(), compressed: false);
            file.SetAttributes(described.Attributes);
            if (described.Security is { } security && old.SecurityId == 0)
                file.SetSecurity(security);
            using (var data = file.OpenData())
            {
                data.Write(bytes, 0);
                data.Finish();
            }
            file.SetTimes(described.Created, time, time, described.Accessed);
            file.Close(parent);
        }
        Remove(path.Name);
        using (var parent = volume.Open(folder, path.ToString()))
        {
            using var file = Open(fresh);
            file.Link(parent, name);
            file.Close(parent);
        }
        Remove(fresh);
    }

    /// <summary>Ends what a run began that was killed between taking the old file away and giving the new one its name.</summary>
    /// <param name="disk">The disk.</param>
    /// <param name="path">The file, on any of its volumes.</param>
    /// <param name="reading">How the disk is opened.</param>
    /// <exception cref="VembarException">The disk cannot be read or written.</exception>
    public static void Recover(string disk, WindowsPath path, DiskReading reading)
    {
        using var opened = Disk.Open(disk, reading: reading);
        foreach (var volume in opened.Volumes.Where(v => v.FileSystem.Kind == FileSystem.Ntfs))
        {
            using (var source = NtfsSource.Open(disk, () => opened.OpenVolume(volume)))
            {
                if (source.Exists(path) || !source.Exists(path.Parent.Child(path.Name + NewName)))
                    continue;
            }
            GiveName(disk, volume, path, reading);
        }
    }

    private static void GiveName(string disk, DiskVolume on, WindowsPath path, DiskReading reading)
    {
        using var image = DiskImage.Open(disk, write: true, reading);
        using var device = new SliceDevice(image.OpenDevice(), on.Start, on.Length);
        using (var volume = NtfsVolume.Open(device, write: true, keepDevice: true))
        {
            var folder = FolderOf(volume, path);
            var fresh = path.Name + NewName;
            using (var parent = volume.Open(folder, path.ToString()))
            {
                using var file = volume.Open(Find(volume, folder, fresh)!.Value, path.ToString());
                file.Link(parent, path.Name);
                file.Close(parent);
            }
            using (var parent = volume.Open(folder, path.ToString()))
            {
                using var file = volume.Open(Find(volume, folder, fresh)!.Value, path.ToString());
                file.DeleteAndClose(parent, fresh);
            }
            volume.Close();
        }
        image.Finish();
    }

    private static ulong FolderOf(NtfsVolume volume, WindowsPath path)
    {
        var at = NtfsVolume.Root;
        foreach (var name in path.Parent.Parts)
            at = Find(volume, at, name) ?? throw new NativeException("find", path.Parent.ToString(), Errno.NotFound);
        return at;
    }

    private static ulong? Find(NtfsVolume volume, ulong folder, string name)
    {
        using var open = volume.Open(folder, name);
        return open.Find(name);
    }
}
