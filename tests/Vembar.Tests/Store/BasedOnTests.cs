using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Store.Compression;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Vembar.Windows.Servicing.Files;
using Xunit;

namespace Vembar.Tests;

public class BasedOnTests
{
    private static (string Base, string Based) Make(TempFolder folder)
    {
        var random = new Random(4);
        for (var i = 0; i < 30; i++)
        {
            var bytes = new byte[40_000];
            random.NextBytes(bytes);
            folder.Write($"src/{i % 3}/{i}.bin", bytes);
        }
        Do.Capture(folder.At("src"), folder.At("base.vmb"), "base");
        folder.Write("src/new.txt", "only in the second");
        folder.Write("src/0/0.bin", new byte[1000]);
        Do.Capture(folder.At("src"), folder.At("based.vmb"), "based", r => r with { BasedOn = folder.At("base.vmb") });
        return (folder.At("base.vmb"), folder.At("based.vmb"));
    }

    [Fact]
    public void OnlyWhatTheBaseLacksIsStored()
    {
        using var folder = new TempFolder();
        var (one, two) = Make(folder);
        Assert.True(new FileInfo(one).Length > 1_000_000);
        Assert.True(new FileInfo(two).Length < 20_000);
        var verified = Do.Verify(two);
        Assert.True(verified.Ok);
        Assert.Equal([one], verified.Bases);
        Do.Deploy(two, folder.At("out"));
        Assert.Equal(Do.Listing(folder.At("src")), Do.Listing(folder.At("out")));
        // A second image, a serviced one and a rewritten file go on leaving out what the base holds.
        Do.Capture(folder.At("src"), two, "again");
        Do.Service($"{two}#1", "changed", new RemoveChange("1"));
        Do.Compact(two, Effort.Dense, default, NoProgress.Instance, CancellationToken.None);
        Assert.True(Do.Verify(two).Ok);
        Assert.True(new FileInfo(two).Length < 30_000);
    }

    [Fact]
    public void TheBaseIsFoundUnderAnotherNameOrWhereItIsSaid()
    {
        using var folder = new TempFolder();
        var (one, two) = Make(folder);
        File.Move(one, folder.At("renamed.vmb"));
        Assert.True(Do.Verify(two).Ok);
        Directory.CreateDirectory(folder.At("elsewhere"));
        File.Move(folder.At("renamed.vmb"), folder.At("elsewhere/renamed.vmb"));
        foreach (var said in (string[])["elsewhere", "elsewhere/renamed.vmb"])
            Assert.True(Do.Verify(new ArchiveLocation(two, [folder.At(said)]), NoProgress.Instance, CancellationToken.None).Ok);
    }

    [Fact]
    public void AMissingOrAnotherBaseIsNamed()
    {
        using var folder = new TempFolder();
        var (one, two) = Make(folder);
        File.Move(one, folder.At("away"));
        var missing = Assert.Throws<VembarException>(() => Do.Deploy(two, folder.At("out")));
        Assert.Equal("base-missing", missing.Code);
        Assert.Contains("base.vmb", missing.Message, StringComparison.Ordinal);
        Assert.False(Directory.Exists(folder.At("out")));
        Assert.Equal("base-missing", Assert.Throws<VembarException>(() => Do.Capture(folder.At("src"), two, "more")).Code);
        Do.Capture(folder.At("src/0"), one, "not the same archive");
        var other = Assert.Throws<VembarException>(() => Do.Verify(two));
        Assert.Equal("base-missing", other.Code);
        Assert.Contains("is another archive", Assert.Single(other.Details), StringComparison.Ordinal);
        // What images there are can be told all the same, and taken off the list.
        using (var reader = ArchiveReader.Open(two))
            Assert.Equal("based", Assert.Single(reader.Images).Name);
        Assert.Equal(0, Do.Drop(new ImageReference(two, "based"), default).Left);
    }

    [Fact]
    public void ABaseThatLostContentIsTold()
    {
        using var folder = new TempFolder();
        var (one, two) = Make(folder);
        Do.Capture(folder.At("src/1"), one, "a part");
        Do.Drop(new ImageReference(one, "base"), default);
        Do.Compact(one, null, default, NoProgress.Instance, CancellationToken.None);
        var verified = Do.Verify(two);
        Assert.False(verified.Ok);
        Assert.Contains(verified.Damage, d => d.Path == "0/12.bin");
        Assert.Contains(verified.Damage,
            d => d is { Path: "2" } && d.Problem.Contains("the folder and all below it", StringComparison.Ordinal));
        Assert.DoesNotContain(verified.Damage, d => d.Path == "new.txt");
    }

    [Fact]
    public void ACopyAndARecoveredOneStandAlone()
    {
        using var folder = new TempFolder();
        var (one, two) = Make(folder);
        Do.Copy(new ImageReference(two, "based"), folder.At("copy.vmb"), null, default, NoProgress.Instance,
            CancellationToken.None);
        Do.Recover(two, folder.At("recovered.vmb"), NoProgress.Instance, CancellationToken.None);
        File.Delete(one);
        foreach (var name in (string[])["copy", "recovered"])
        {
            Assert.True(Do.Verify(folder.At($"{name}.vmb")).Ok);
            Do.Deploy(folder.At($"{name}.vmb"), folder.At(name));
            Assert.Equal(Do.Listing(folder.At("src")), Do.Listing(folder.At(name)));
        }
    }

    [Fact]
    public void WhatABaseMayNotBe()
    {
        using var folder = new TempFolder();
        var (one, two) = Make(folder);
        Assert.Equal("based-on-itself", Assert.Throws<VembarException>(() => Do.Capture(folder.At("src"), one, "x", r => r with
        {
            BasedOn = one,
        })).Code);
        Assert.Equal("not-based-on", Assert.Throws<VembarException>(() => Do.Capture(folder.At("src"), one, "x", r => r with
        {
            BasedOn = two,
        })).Code);
        Assert.Equal("no-such-archive",
            Assert.Throws<VembarException>(() => Do.Capture(folder.At("src"), folder.At("n.vmb"), "x", r => r with
            {
                BasedOn = folder.At("none.vmb"),
            })).Code);
        Assert.False(File.Exists(folder.At("n.vmb")));
        // A base of a base.
        folder.Write("src/third.txt", "third");
        Do.Capture(folder.At("src"), folder.At("third.vmb"), "third", r => r with { BasedOn = two });
        Assert.True(new FileInfo(folder.At("third.vmb")).Length < 20_000);
        Do.Deploy(folder.At("third.vmb"), folder.At("out"));
        Assert.Equal(Do.Listing(folder.At("src")), Do.Listing(folder.At("out")));
    }
}
