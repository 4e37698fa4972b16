using Vembar.Common;
using Vembar.Native;

namespace Vembar.Operations.Builds;

/// <summary>One build of a recipe at a time.</summary>
public static class BuildLock
{
    private const string FileName = "lock";

    /// <summary>Takes it; it goes with the process, however that ends.</summary>
    /// <param name="folder">The folder of the recipe's runs.</param>
    /// <exception cref="VembarException">Another process has it.</exception>
    public static FileStream Take(string folder) => TryTake(folder) ?? throw VembarException.Environment("build-running",
        $"another build of '{Path.GetFileName(folder)}' is running", $"Wait until it is done; what it is at stands in '{folder}'.");

    /// <summary>Whether another process has it.</summary>
    public static bool IsHeld(string folder)
    {
        using var taken = TryTake(folder);
        return taken is null;
    }

    private static FileStream? TryTake(string folder)
    {
        try
        {
            return new FileStream(Path.Combine(folder, FileName), FileMode.OpenOrCreate, FileAccess.ReadWrite, FileShare.None);
        }
        catch (IOException busy) when ((busy.HResult & 0xFFFF) == Errno.WouldBlock)
        {
            return null;
        }
    }
}
