using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests;

/// <summary>The packages: the same bytes each time, without errors for Debian's checker, installed into a bare system and taken
/// away.</summary>
[Trait("Set", "Slow")]
public sealed class DebianPackageTests
{
    private static string Make(TempFolder folder, string name)
    {
        Tools.Run(Path.Combine(Vembar.Repository, "tools/package-deb"), [folder.At(name)]);
        return folder.At(name);
    }

    [Fact]
    public void TheyAreMadeInstalledUpgradedAndTakenAway()
    {
        Assert.SkipUnless(Native.Posix.IsRoot && File.Exists("/usr/sbin/debootstrap") && File.Exists("/usr/bin/lintian"),
            "needs root, debootstrap and lintian");
        using var folder = new TempFolder();
        var made = Make(folder, "one");
        var again = Make(folder, "two");
        string[] files = [.. Directory.EnumerateFiles(made).Select(f => Path.GetFileName(f)).Order()];
        Assert.Equal(3, files.Length);
        Assert.All(files, f => Assert.Equal(File.ReadAllBytes(Path.Combine(made, f)), File.ReadAllBytes(Path.Combine(again, f))));
        var package = Directory.EnumerateFiles(made, "vembar_*.deb").Single();
        var station = Directory.EnumerateFiles(made, "vembar-station_*.deb").Single();
        // The program is there, its runtime's parts are not, where it was not built ahead of time.
        Vembar.DemandAheadOfTime();
        var (code, said, _) = Tools.Try("lintian", ["--fail-on", "error", "--allow-root", package, station]);
        Assert.True(code == 0, said);
        var root = folder.At("root");
        var release = File.ReadLines("/etc/os-release").First(l => l.StartsWith("VERSION_CODENAME=", StringComparison.Ordinal))
            .Split('=')[1];
        // The system's own, among whatever else packages come from.
        var mirror = Tools.Run("apt-get", ["indextargets", "--format", "$(ORIGIN) $(CODENAME) $(REPO_URI)"]).Split('\n')
            .Select(l => l.Trim().Split(' '))
            .First(l => l is ["Debian" or "Ubuntu", var codename, _] && codename == release)[2];
        // It is called otherwise since times have 64 bits everywhere.
        var libarchive = Tools.Try("apt-cache", ["show", "libarchive13t64"]).Code == 0 ? "libarchive13t64" : "libarchive13";
        Tools.Run("debootstrap",
            ["--variant=minbase", $"--include=libzstd1,{libarchive},ntfs-3g,dosfstools,mtools", release, root, mirror]);
        string In(string command) => Tools.Run("chroot", [root, "sh", "-c", command]);
        Directory.CreateDirectory(Path.Combine(root, "packages"));
        foreach (var file in (string[])[package, station])
            File.Copy(file, Path.Combine(root, "packages", Path.GetFileName(file)));
        Tools.Run("mount", ["-t", "proc", "proc", Path.Combine(root, "proc")]);
        try
        {
            In("dpkg -i /packages/vembar_*.deb");
            Assert.StartsWith("vembar ", In("vembar --version"), StringComparison.Ordinal);
            Assert.Contains("is in order", In("mkdir /made && echo text > /made/file && vembar capture /made /made.vmb --name Made -q "
                + "&& vembar verify /made.vmb"), StringComparison.Ordinal);
            Assert.Contains("NAME", In("zcat /usr/share/man/man1/vembar-service.1.gz"), StringComparison.Ordinal);
            In("test -s /usr/share/bash-completion/completions/vembar && test -s /usr/lib/systemd/system/vembar-build@.timer");
            // The station's runtime comes from elsewhere. What it keeps outlives upgrades and removal.
            In("dpkg -i --force-depends /packages/vembar-station_*.deb && echo kept > /var/lib/vembar-station/state");
            Assert.Contains("vembar", In("stat -c %U /var/lib/vembar-station"), StringComparison.Ordinal);
            In("dpkg -i --force-depends /packages/*.deb");
            In("dpkg -r vembar-station vembar");
            Assert.Equal("kept\n", In("cat /var/lib/vembar-station/state"));
            Assert.False(Path.Exists(Path.Combine(root, "usr/bin/vembar")) || Path.Exists(Path.Combine(root, "usr/lib/vembar")));
        }
        finally
        {
            Tools.Run("umount", [Path.Combine(root, "proc")]);
        }
    }
}
