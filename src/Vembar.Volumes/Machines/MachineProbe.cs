using Vembar.Common;
using Vembar.Volumes.Disks;

namespace Vembar.Volumes.Machines;

/// <summary>Finds out whether KVM runs a machine here as fast as it should: that its device can be opened does not say so. In a
/// machine that is a virtual one itself it can be many times slower than emulation.</summary>
public static class MachineProbe
{
    private const string Device = "/dev/kvm", Greeting = "No bootable device";
    private static readonly TimeSpan s_limit = TimeSpan.FromSeconds(3);

    /// <summary>Lets a small machine begin with nothing to start; its firmware says so on the serial line, in a fifth of a second
    /// where it is emulated.</summary>
    public static bool Run()
    {
        if (!File.Exists(Device))
            return false;
        try
        {
            using var process = SystemTools.Start("qemu-system-x86_64", "qemu-system-x86", ["-accel", "kvm", "-cpu", "max", "-M",
                "q35,graphics=off", "-smp", "2", "-m", "64", "-nodefaults", "-display", "none", "-serial", "stdio"], "look for KVM");
            _ = process.Error.ReadToEndAsync();
            var greeted = Task.Run(() =>
            {
                while (process.Output.ReadLine() is { } line)
                {
                    if (line.Contains(Greeting, StringComparison.Ordinal))
                        return true;
                }
                return false;
            });
            var isFast = greeted.Wait(s_limit) && greeted.Result;
            process.Kill();
            process.WaitForExit();
            return isFast;
        }
        catch (VembarException)
        {
            // QEMU is not installed, which is told when a machine is to be started.
            return false;
        }
    }
}
