using Vembar.Common;
using Vembar.Demo;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Operations.UserData;
using Vembar.Store.Reading;
using Vembar.Volumes.Disks;
using Vembar.Windows.Install;
using Vembar.Windows.Registry;
using Vembar.Windows.UserData;
using Xunit;

namespace Vembar.Tests.Operations;

/// <summary>User files are kept and put back.</summary>
public sealed class UserDataTests(DemoDisks demo) : IDisposable
{
    private const string Anna = "S-1-5-21-1004336348-1177238915-682003330-1105",
        List = @"Microsoft\Windows NT\CurrentVersion\ProfileList", Old = "From the old install";

    private readonly TempFolder _folder = new();

    private string Kept => _folder.At("kept.vmb");

    public void Dispose() => _folder.Dispose();

    private SaveUserDataResult Save(string source, Func<SaveUserDataRequest, SaveUserDataRequest>? with = null)
    {
        var request = new SaveUserDataRequest
        {
            Source = source,
            Archive = Kept,
            Machine = OldDesk.Machine,
            Rules = KeepRules.Read(null),
        };
        return new SaveUserDataHandler(OperationHost.Default).HandleAsync(with is null ? request : with(request), NoProgress.Instance,
            CancellationToken.None).GetAwaiter().GetResult();
    }

    private RestoreUserDataResult Restore(string target, string image = "last", string[]? accounts = null,
        IProgress<OperationProgress>? progress = null, CancellationToken cancellation = default) =>
        new RestoreUserDataHandler(OperationHost.Default).HandleAsync(new RestoreUserDataRequest
        {
            Image = new ImageReference(Kept, image),
            Target = target,
            Accounts = accounts ?? [],
        }, progress ?? NoProgress.Instance, cancellation).GetAwaiter().GetResult();

    private string NewDisk(string name = "new.img")
    {
        var archive = _folder.At("desks.vmb");
        if (!File.Exists(archive))
            Do.Capture(demo.LendingDesk, archive);
        Do.Deploy($"{archive}#1", _folder.At(name), r => r with { Size = 2L << 30, Verify = false });
        return _folder.At(name);
    }

    private static string Code(Action act) => Assert.Throws<VembarException>(act).Code;

    private static void Look(string disk, Action<IReadOnlyTree, RegistryHive> look)
    {
        using var found = ResolvedSource.Open(disk, null);
        look(found.Source, WindowsInstall.OpenHive(found.Source, "Windows", "SOFTWARE"));
    }

    private List<string> Files()
    {
        using var archive = ArchiveReader.Open(Kept);
        var tree = new ImageTree(archive, archive.Images[^1].Root, "kept");
        return [.. tree.Walk(tree.Root, WindowsPath.Root).Where(e => e.Entry.Content is not null).Select(e => e.Path.ToString())];
    }

    [Fact]
    public void WhatUsersMadeIsKeptAndNothingElse()
    {
        var saved = Save(demo.At("disks/old-desk.vhdx"));
        var files = Files();
        Assert.Contains("Users/anna/Documents/Story hour/Plans for spring.txt", files);
        Assert.Contains("Users/anna/NTUSER.DAT", files);
        Assert.Contains("Users/anna/AppData/Local/Larkspur/Browser/User Data/Default/Bookmarks", files);
        Assert.Contains("Users/reader/Documents/Family tree.txt", files);
        // No caches, nothing of a local account beside its files, and nothing of Windows.
        Assert.DoesNotContain(files, f => f.Contains("/Temp/", StringComparison.Ordinal) || f.Contains("Cache", StringComparison.Ordinal)
            || f == "Users/reader/NTUSER.DAT" || !f.StartsWith("Users/", StringComparison.Ordinal));
        var accounts = saved.Image.UserFiles!.Accounts;
        Assert.Equal(["anna", "ben", "reader"], accounts.Select(a => a.Name));
        Assert.Equal([true, true, false], accounts.Select(a => a.IsDomain && a.IsWhole));
        Assert.Equal(Anna, accounts[0].Sid);
        Assert.Equal(files.Count, accounts.Sum(a => a.Files));
        Assert.Equal(saved.Image.Bytes, accounts.Sum(a => a.Bytes));
        Assert.True(Do.Verify(Kept).Ok);
        // The same again is the same image.
        var again = Save(demo.At("disks/old-desk.vhdx"));
        Assert.False(again.IsNew);
        Assert.Equal(saved.Image.Number, again.Image.Number);
        using var archive = ArchiveReader.Open(Kept);
        Assert.Single(archive.Images);
    }

    [Fact]
    public void RulesSayWhatIsKept()
    {
        var rules = KeepRules.Parse("keep: [Documents/**]\nleave-out: ['**/Rota *.txt']\nwhole-profiles: none\nskip-accounts: [rea*]\n"
            + "elsewhere: ['ProgramData/Tarn Valley/**']\n", "rules");
        var saved = Save(demo.At("disks/old-desk.vhdx"), r => r with { Rules = rules });
        // Where somebody's documents are elsewhere in the profile, they are found there.
        Assert.Equal(["ProgramData/Tarn Valley/Logs/Notes.txt", "ProgramData/Tarn Valley/Logs/notes.txt",
            "Users/anna/Documents/Story hour/Plans for spring.txt", "Users/ben/Valley Cloud/Documents/Story hour/Plans for spring.txt"],
            Files().Order(StringComparer.Ordinal));
        Assert.All(saved.Image.UserFiles!.Accounts, a => Assert.False(a.IsWhole));
        Assert.Equal(["anna"], Save(demo.At("disks/old-desk.vhdx"), r => r with { Accounts = ["AN*"] }).Image.UserFiles!.Accounts
            .Select(a => a.Name));
        Assert.Equal("no-such-account", Code(() => Save(demo.At("disks/old-desk.vhdx"), r => r with { Accounts = ["carol"] })));
        Assert.Equal(SaveUserDataHandler.NothingToKeep, Code(() => Save(demo.At("disks/old-desk.vhdx"),
            r => r with { Rules = KeepRules.Parse("keep: [Nothing/**]\nwhole-profiles: none", "rules") })));
        foreach (var wrong in (string[])["keep: {}", "whole-profiles: some", "cheep: []", "keep: ['../x']",
            "keep: []\nwhole-profiles: none",
            "[]", ""])
            Assert.Equal("bad-keep-rules", Code(() => KeepRules.Parse(wrong, "rules")));
    }

    [Fact]
    public void ProfilesAreGoneOnWithAndOthersGetTheirFiles()
    {
        var saved = Save(demo.At("disks/old-desk.vhdx"));
        var disk = NewDisk();
        var put = Restore(disk);
        Assert.Empty(put.Differences);
        Assert.Equal(saved.Image.Files, put.Files);
        Assert.Equal(["Users/anna", "Users/ben", $"Users/Public/Documents/{Old}/reader"], put.Accounts.Select(a => a.To));
        Look(disk, (files, software) =>
        {
            var profile = software.Key($@"{List}\{Anna}")!;
            Assert.Equal(@"%SystemDrive%\Users\anna", profile.GetString("ProfileImagePath"));
            Assert.Equal(UserAccounts.SidBytes(Anna), profile.Get("Sid")!.Value.Bytes);
            Assert.Equal("{6d1c9a52-0b1e-4d43-8f0e-51d2b5f3a7c1}", profile.GetString("Guid"));
            Assert.Equal(Anna, software.Key(@"Microsoft\Windows NT\CurrentVersion\ProfileGuid\{6d1c9a52-0b1e-4d43-8f0e-51d2b5f3a7c1}")!
                .GetString("SidString"));
            // What the image itself has stays.
            Assert.Contains(WindowsInstall.Read(files)!.Product, "Windows 11 Enterprise", StringComparison.Ordinal);
            Assert.True(files.Exists(WindowsPath.Parse("Users/Public/Documents/Welcome.txt")));
            Assert.False(files.Exists(WindowsPath.Parse("Windows/System32/config/SOFTWARE.vembar-new")));
            Assert.False(files.Exists(WindowsPath.Parse("Users/reader")));
        });
        // Once more: nothing is replaced, and nothing of two old installs is mixed.
        var second = Restore(disk);
        Assert.Equal([$"Users/anna/Documents/{Old}", $"Users/ben/Valley Cloud/Documents/{Old}",
            $"Users/Public/Documents/{Old} {saved.Image.Version}/reader"], second.Accounts.Select(a => a.To));
        Look(disk, (files, _) => Assert.False(files.Exists(WindowsPath.Parse($"Users/anna/Documents/{Old}/NTUSER.DAT"))));
    }

    [Fact]
    public void WhatIsNobodysIsForAdministrators()
    {
        Save(demo.At("disks/old-desk.vhdx"));
        var disk = NewDisk();
        Restore(disk, accounts: ["reader"]);
        Do.Capture(disk, _folder.At("after.vmb"), with: r => r with { AcceptUnready = true });
        using var archive = ArchiveReader.Open(_folder.At("after.vmb"));
        var tree = new ImageTree(archive, archive.Images[0].Root, "after");
        string Rights(string path) => SecurityText.Format(archive.Read(tree.Find(WindowsPath.Parse(path))!.Security).Span)!;
        var folder = $"Users/Public/Documents/{Old}/reader";
        Assert.Equal("O:BAG:SYD:P(A;OICI;FA;;;SY)(A;OICI;FA;;;BA)", Rights(folder));
        Assert.Equal(Rights(folder), Rights($"{folder}/Documents/Family tree.txt"));
        Assert.Equal(Rights("Users/Public/Documents"), Rights($"Users/Public/Documents/{Old}"));
        Assert.Null(tree.Find(WindowsPath.Parse("Users/anna")));
    }

    [Fact]
    public void WhatIsBrokenOffIsGoneOnWith()
    {
        Save(demo.At("disks/old-desk.vhdx"));
        var disk = NewDisk();
        foreach (var count in (int[])[1, 7, 10])
        {
            using var stop = new StopAfter(count, "putting back user files");
            var told = Assert.Throws<VembarException>(() => Restore(disk, progress: stop, cancellation: stop.Token));
            Assert.Equal(VembarException.Interrupted, told.Code);
            // No account goes on with a part of its profile.
            Look(disk, (_, software) => Assert.Null(software.Key($@"{List}\{Anna}")));
        }
        var put = Restore(disk);
        Assert.Equal(["Users/anna", "Users/ben", $"Users/Public/Documents/{Old}/reader"], put.Accounts.Select(a => a.To));
        Assert.Empty(put.Differences);
        Look(disk, (files, software) =>
        {
            Assert.NotNull(software.Key($@"{List}\{Anna}"));
            Assert.False(files.Exists(WindowsPath.Parse(".vembar-deploying")));
        });
    }

    // Killed when the install was told of the profiles, and before the journal was gone; and between taking the old hive away and giving
    // the new one its name.
    [Fact]
    public void WhatWasKilledAtTheEndIsGoneOnWith()
    {
        Save(demo.At("disks/old-desk.vhdx"));
        var disk = NewDisk();
        byte[] hive;
        using (var found = ResolvedSource.Open(disk, null))
            hive = found.Source.ReadFile(WindowsInstall.HivePath("Windows", "SOFTWARE"), RegistryHive.Longest)!;
        using (var stop = new StopAfter(1, "putting back user files"))
            Assert.Throws<VembarException>(() => Restore(disk, progress: stop, cancellation: stop.Token));
        var changed = RegistryHive.Open(hive, write: true, "SOFTWARE", DateTime.UtcNow);
        UserAccounts.AddProfile(changed, Anna, null, WindowsPath.Parse("Users/anna"));
        WindowsVolume.Change(disk, volume =>
        {
            const string Config = "Windows/System32/config";
            WindowsVolume.Put(volume, Config, "SOFTWARE.vembar-new", changed.ToBytes());
            using var parent = WindowsVolume.Folder(volume, Config);
            using var old = volume.Open(parent.Find("SOFTWARE")!.Value, "SOFTWARE");
            old.DeleteAndClose(parent, "SOFTWARE");
        });
        var put = Restore(disk);
        Assert.Equal(["Users/anna", "Users/ben", $"Users/Public/Documents/{Old}/reader"], put.Accounts.Select(a => a.To));
        Assert.True(put.Accounts[0].IsProfile);
        Assert.Empty(put.Differences);
        Look(disk, (files, software) =>
        {
            Assert.NotNull(software.Key($@"{List}\{Anna}"));
            Assert.True(files.Exists(WindowsPath.Parse("Users/anna/AppData/Roaming/Quillpad/settings.ini")));
            Assert.False(files.Exists(WindowsPath.Parse("Windows/System32/config/SOFTWARE.vembar-new")));
        });
    }

    [Fact]
    public void WhatIsNotForItIsRefused()
    {
        var lending = _folder.At("desks.vmb");
        Do.Capture(demo.LendingDesk, lending);
        Save(demo.At("disks/old-desk.vhdx"));
        Assert.Equal("user-files", Code(() => Do.Deploy($"{Kept}#1", _folder.At("x.img"), r => r with { Size = 2L << 30 })));
        Assert.Equal("not-user-files", Code(() => new RestoreUserDataHandler(OperationHost.Default).HandleAsync(new RestoreUserDataRequest
        {
            Image = new ImageReference(lending, "1"),
            Target = demo.LendingDesk,
        }, NoProgress.Instance, CancellationToken.None).GetAwaiter().GetResult()));
        _folder.Write("plain/a.txt", "a");
        Assert.Equal("no-windows", Code(() => Restore(_folder.At("plain"))));
        Assert.Equal("no-windows", Code(() => Save(_folder.At("plain"))));
        Assert.Equal("no-such-account", Code(() => Restore(NewDisk(), accounts: ["carol"])));
        Assert.Equal("not-shut-down", Code(() => Save(demo.At("spoiled/hibernated.qcow2"))));
        Assert.Equal("not-shut-down", Code(() => Save(demo.At("spoiled/not-closed.qcow2"))));
        Assert.Equal(SaveUserDataHandler.NothingToKeep, Code(() => Save(demo.At("spoiled/hibernated.qcow2"), r => r with
        {
            AcceptOpen = true,
        })));
    }

    // Whatever stands in the list of profiles, nothing outside of users' folders is taken for a profile.
    [Theory]
    [InlineData(@"C:\Windows")]
    [InlineData(@"C:\")]
    [InlineData(@"%SystemRoot%\System32")]
    [InlineData(@"C:\Users\..\Windows")]
    [InlineData(@"C:\Users")]
    public void ProfilesAreOfUsers(string path)
    {
        var hive = RegistryHive.Open(RegistryHive.NewEmpty("SOFTWARE"), write: true, "SOFTWARE");
        hive.Root.Ensure($@"{List}\{Anna}").SetString("ProfileImagePath", path, RegistryType.ExpandString);
        using var found = ResolvedSource.Open(demo.At("disks/old-desk.vhdx"), null);
        Assert.DoesNotContain(UserAccounts.Read(found.Source, "Windows", hive, null), a => a.Sid.Length > 0);
    }
}
