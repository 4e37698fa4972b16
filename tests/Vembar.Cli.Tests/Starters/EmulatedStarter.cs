using Vembar.Cli.Tests.Starters;
using Vembar.Cli.Tests.Stations;
using Vembar.Tests;
using Xunit;

[assembly: AssemblyFixture(typeof(EmulatedStarter))]

namespace Vembar.Cli.Tests.Starters;

/// <summary>One starter for all emulated machines, made when the first asks for it: it trusts the stations that have its keys, and
/// prepares a copy of a reference where its medium says so.</summary>
public sealed class EmulatedStarter : IDisposable
{
    /// <summary>What the kernel is started with where a copy of a reference is to be prepared.</summary>
    public const string Prepare = "vembar-test=prepare";

    private const long MostBytes = 120 << 20;
    private readonly TempFolder _folder = new();
    private readonly Lock _gate = new();
    private bool _isMade;

    /// <summary>The starter's folder.</summary>
    public string Path => _folder.At("starter");

    /// <summary>The folder with the authority of the stations that it trusts.</summary>
    public string Keys => _folder.At("keys");

    /// <summary>Makes it if that has not been done, or skips a test where it cannot be made.</summary>
    public void Demand(World world)
    {
        DemandPackages();
        lock (_gate)
        {
            if (!_isMade)
                Make(world);
            _isMade = true;
        }
    }

    /// <summary>Skips a test where no starter can be made.</summary>
    public static void DemandPackages()
    {
        Vembar.DemandAheadOfTime();
        Assert.SkipUnless(Tools.Try("apt-cache", ["show", "linux-image-amd64"]).Code == 0, "starters are made of Debian's packages");
    }

    private void Make(World world)
    {
        using (var station = new RunningStation(world))
            Tools.Run("cp", ["-r", station.At("data"), _folder.At("keys")]);
        Directory.CreateDirectory(_folder.At("tools"));
        File.Copy("/usr/sbin/ntfscp", _folder.At("tools/ntfscp"));
        // Runs what is on the small disk beside the copy, and switches off.
        File.WriteAllText(_folder.At("before.sh"), $$"""
            #!/bin/sh
            case "$(cat /proc/cmdline)" in *{{Prepare}}*) ;; *) exit 0 ;; esac
            mkdir -p /files
            for turn in 1 2 3 4 5 6 7 8 9 10; do
                for disk in /dev/sd?; do mount -t vfat -o ro "$disk" /files 2>/dev/null && break 2; done
                sleep 1
            done
            sh /files/run.sh > /dev/console 2>&1
            sync
            poweroff -f

            """);
        var made = Vembar.Run("starter", "make", _folder.At("starter"), "--version", "1", "--authority", _folder.At("keys/authority.pem"),
            "--tools", _folder.At("tools"), "--script", _folder.At("before.sh"), "--json");
        Assert.True(made.Code == 0, made.Error);
        Assert.InRange(made.Json.GetProperty("bytes").GetInt64(), 1, MostBytes);
    }

    public void Dispose() => _folder.Dispose();
}
