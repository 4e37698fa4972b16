namespace Vembar.Tests;

/// <summary>NTFS volumes made by others' programs.</summary>
public static class NtfsVolumes
{
    /// <summary>An empty volume of 4 KiB clusters.</summary>
    public static string Make(TempFolder folder, string name = "volume.img", int mebibytes = 64)
    {
        var path = folder.At(name);
        using (var file = File.Create(path))
            file.SetLength((long)mebibytes << 20);
        Tools.Run("mkntfs", ["-F", "-Q", "-q", "-s", "512", "-c", "4096", "-p", "0", "-H", "255", "-S", "63", "-L", "Probe", path]);
        return path;
    }

    /// <summary>Runs a script in a volume that is mounted by the FUSE driver, as anybody would make such a volume.</summary>
    public static void Fill(TempFolder folder, string volume, string script)
    {
        Directory.CreateDirectory(folder.At("mnt"));
        Tools.Run("ntfs-3g", ["-o", "streams_interface=xattr", volume, folder.At("mnt")]);
        try
        {
            Tools.Run("sh", ["-e", "-c", script], folder.At("mnt"));
        }
        finally
        {
            Tools.Run("umount", [folder.At("mnt")]);
        }
    }
}
