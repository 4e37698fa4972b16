using System.Text;
using Vembar.Native;
using Vembar.Volumes.Disks;

namespace Vembar.Tests;

/// <summary>The volume of a disk that Windows is on, changed as another program would.</summary>
public static class WindowsVolume
{
    /// <summary>Changes it.</summary>
    public static void Change(string disk, Action<NtfsVolume> change)
    {
        using var image = DiskImage.Open(disk, write: true);
        using var device = image.OpenDevice();
        using var opened = Disk.Open(disk);
        var windows = opened.Volumes.Single(v => v.FileSystem.Label == "Windows");
        using var volume = NtfsVolume.Open(new SliceDevice(device, windows.Start, windows.Length), write: true, keepDevice: true);
        change(volume);
        volume.Close();
        image.Finish();
    }

    /// <summary>Opens a folder of it.</summary>
    public static NtfsFile Folder(NtfsVolume volume, string path)
    {
        var at = NtfsVolume.Root;
        foreach (var part in path.Split('/', StringSplitOptions.RemoveEmptyEntries))
        {
            using var open = volume.Open(at, part);
            at = open.Find(part)!.Value;
        }
        return volume.Open(at, path);
    }

    /// <summary>Puts a file into a folder of it.</summary>
    public static void Put(NtfsVolume volume, string folder, string name, byte[] bytes)
    {
        using var parent = Folder(volume, folder);
        using var file = volume.Create(parent, name, isFolder: false, 0, name);
        using (var data = file.OpenData())
            data.Write(bytes, 0);
        file.Close(parent);
    }

    /// <inheritdoc cref="Put(NtfsVolume, string, string, byte[])"/>
    public static void Put(string disk, string folder, string name, string text) =>
        Change(disk, volume => Put(volume, folder, name, Encoding.ASCII.GetBytes(text)));
}
