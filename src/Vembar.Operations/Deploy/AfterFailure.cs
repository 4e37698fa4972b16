using Vembar.Common;
using Vembar.Volumes.Disks;
using Vembar.Windows.Install;

namespace Vembar.Operations.Deploy;

/// <summary>What a volume is like after writing to it failed, so that what is said of it is so.</summary>
internal static class AfterFailure
{
    /// <summary>Whether a volume was not closed, or cannot be opened any more.</summary>
    /// <param name="disk">The disk.</param>
    /// <param name="number">The volume's number.</param>
    /// <param name="reading">How the disk is opened.</param>
    public static bool IsLeftOpen(string disk, int number, DiskReading reading)
    {
        try
        {
            using var opened = Disk.Open(disk, reading: reading);
            using var source = ResolvedSource.OpenVolume(opened, opened.Volumes.Single(v => v.Number == number));
            return source.IsDirty;
        }
        catch (Exception failure) when (failure is VembarException or InvalidOperationException)
        {
            return true;
        }
    }

    /// <summary>What is said of a volume that was written whole, and that the device did not make durable.</summary>
    public static (string Left, string Hint) NotDurable(string disk, int number) =>
        ($"volume {number} of '{disk}' was written, and the device failed to keep it: what is on it is not to be relied on",
        "See what is wrong with the device. Then let Windows check the volume (chkdsk), or format it and begin anew.");

    /// <summary>What is said of such a volume, and what to do.</summary>
    public static (string Left, string Hint) Open(string disk, int number) =>
        ($"volume {number} of '{disk}' was left unclosed, for the device failed: what is on it is "
        + "not to be relied on",
        "See what is wrong with the device. Then let Windows check the volume (chkdsk) and run the same command again to go on; or format "
        + "it and begin anew.");
}
