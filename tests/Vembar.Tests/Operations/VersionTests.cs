using CsCheck;
using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Operations.Capture;
using Vembar.Operations.History;
using Vembar.Operations.Mark;
using Vembar.Store.Reading;
using Xunit;

namespace Vembar.Tests.Operations;

/// <summary>Versions of a name, channels that point at them, and what keeps them.</summary>
public sealed class VersionTests
{
    private static ImageRecord Image(string version, int day, int number = 1) => new()
    {
        Number = number,
        Name = "Desk",
        Version = version,
        Created = new DateTime(2026, 1, 1, 0, 0, 0, DateTimeKind.Utc).AddDays(day),
        Root = default,
        Origin = new ImageOrigin { Kind = "folder", From = "/" },
    };

    [Theory]
    [InlineData("2026.9", "2026.10")]
    [InlineData("2026.09", "2026.10")]
    [InlineData("2026-09-30", "2026-10-01")]
    [InlineData("2026.10", "2026.10.1")]
    [InlineData("1.9.9", "1.10")]
    [InlineData("v1.2", "v1.10")]
    [InlineData("9", "10")]
    [InlineData("99999999999999999998", "99999999999999999999")]
    [InlineData("2026_09", "2026_10")]
    public void NumbersOrderVersionsWhateverTheTimes(string older, string newer)
    {
        Assert.Equal([older, newer], VersionOrder.OldestFirst([Image(newer, 1), Image(older, 9)]).Select(i => i.Version));
    }

    [Fact]
    public void WithoutNumbersTheTimeDecides()
    {
        Assert.Equal(["spring", "summer", "autumn"],
            VersionOrder.OldestFirst([Image("autumn", 3), Image("spring", 1), Image("summer", 2)]).Select(i => i.Version));
        // What was made behind a numbered one is newer than it, and older than the next.
        Assert.Equal(["", "2026.10", "fixed", "2026.11"],
            VersionOrder.OldestFirst([Image("2026.11", 9), Image("fixed", 5), Image("2026.10", 3), Image("", 1)]).Select(i => i.Version));
        Assert.Equal(["2026.10", "2026.10-b"],
            VersionOrder.OldestFirst([Image("2026.10-b", 5), Image("2026.10", 3)]).Select(i => i.Version));
    }

    private static readonly string[] s_some = ["", "1", "1.2", "1.10", "x", "y", "2026.10", "2"];

    [Fact]
    public void TheOrderDoesNotDependOnTheOrderThatItIsGiven() =>
        Gen.Select(Gen.Int[0, s_some.Length - 1], Gen.Int[0, 5]).Array[1, 9].Sample(pairs =>
        {
            var images = pairs.Select((p, i) => Image(s_some[p.Item1], p.Item2, i + 1)).ToList();
            var order = VersionOrder.OldestFirst(images).Select(i => i.Number).ToList();
            Assert.Equal(order, VersionOrder.OldestFirst(images.AsEnumerable().Reverse()).Select(i => i.Number));
            Assert.Equal(images.Count, order.Distinct().Count());
        });

    [Theory]
    [InlineData("{year}.{month}.{counter}", "", "2026.03.1")]
    [InlineData("{year}.{month}.{counter}", "2026.03.1 2026.03.9 2026.02.44", "2026.03.10")]
    [InlineData("{year}.{month}.{counter}", "2026.03 2026.03.x 2026.03.", "2026.03.1")]
    [InlineData("{year}.{month}", "", "2026.03")]
    [InlineData("{year}.{month}", "2026.03", "2026.03.2")]
    [InlineData("{year}.{month}", "2026.03 2026.03.2", "2026.03.3")]
    [InlineData("{counter:4}", "0041", "0042")]
    [InlineData("r{counter}-{year}w{week}", "r3-2026w10", "r4-2026w10")]
    [InlineData("{year}-{month}-{day}", "", "2026-03-05")]
    public void TheNextVersionFollowsThePattern(string pattern, string taken, string next) =>
        Assert.Equal(next, VersionPattern.Parse(pattern).Next(new DateOnly(2026, 3, 5), taken.Split(' ')));

    [Theory]
    [InlineData("")]
    [InlineData("{year")]
    [InlineData("year}")]
    [InlineData("{jahr}")]
    [InlineData("{counter}{counter}")]
    [InlineData("{year:x}")]
    [InlineData("{year:0}")]
    public void PatternsThatMakeNoSenseAreRefused(string pattern) =>
        Assert.Equal("bad-version-pattern", Assert.Throws<VembarException>(() => VersionPattern.Parse(pattern)).Code);

    // Images 1 to 3 are versions 2026.08 to 2026.10 of Desk.
    private static string Three(TempFolder folder)
    {
        var archive = folder.At("a.vmb");
        foreach (var month in (string[])["08", "09", "10"])
        {
            folder.Write("src/file", month);
            Do.Capture(folder.At("src"), archive, "Desk", r => r with { Version = $"2026.{month}" });
        }
        return archive;
    }

    private static int Find(string archive, string which)
    {
        using var reader = ArchiveReader.Open(archive);
        return reader.Find(ImageReference.Parse($"{archive}#{which}").Which).Number;
    }

    private static string Fails(Action work) => Assert.Throws<VembarException>(work).Code;

    [Fact]
    public void ANameIsItsNewestOfferedVersion()
    {
        using var folder = new TempFolder();
        var archive = Three(folder);
        Assert.Equal(3, Find(archive, "desk"));
        Assert.Equal(3, Find(archive, "Desk@newest"));
        Assert.Equal(2, Find(archive, "Desk@2026.09"));
        Assert.Equal(2, Find(archive, "\"Desk\"@2026.09"));
        Assert.Equal(2, Find(archive, "@2026.09"));
        Assert.Equal("no-such-version", Fails(() => Find(archive, "Desk@2026.9")));
        Assert.Equal("no-such-image", Fails(() => Find(archive, "Bench@2026.09")));
        Do.Mark(new MarkRequest { Image = ImageReference.Parse($"{archive}#3"), Held = true });
        Assert.Equal(2, Find(archive, "Desk"));
        Do.Mark(new MarkRequest { Image = ImageReference.Parse($"{archive}#2"), Retires = new DateOnly(2026, 1, 1) });
        Assert.Equal(1, Find(archive, "Desk"));
        Do.Mark(new MarkRequest { Image = ImageReference.Parse($"{archive}#1"), Retires = new DateOnly(2999, 1, 1) });
        Assert.Equal(1, Find(archive, "Desk@newest"));
        Do.Mark(new MarkRequest { Image = ImageReference.Parse($"{archive}#1"), Held = true });
        Assert.Equal("no-version-offered", Fails(() => Find(archive, "Desk")));
        Assert.Equal(3, Find(archive, "Desk@2026.10"));
        Do.Mark(new MarkRequest { Image = ImageReference.Parse($"{archive}#2"), NeverRetires = true });
        Assert.Equal(2, Find(archive, "Desk"));
    }

    [Fact]
    public void RetirementGoesByTheClockOfTheHost()
    {
        using var folder = new TempFolder();
        var archive = Three(folder);
        Do.Mark(new MarkRequest { Image = ImageReference.Parse($"{archive}#3"), Retires = new DateOnly(2030, 6, 1) });
        using var reader = ArchiveReader.Open(archive);
        Assert.Equal(3, reader.Find("Desk", new FixedClock(new DateTime(2030, 5, 31, 12, 0, 0, DateTimeKind.Utc))).Number);
        Assert.Equal(2, reader.Find("Desk", new FixedClock(new DateTime(2030, 6, 1, 12, 0, 0, DateTimeKind.Utc))).Number);
    }

    [Fact]
    public void ANameThatIsThereGetsTheNextVersion()
    {
        using var folder = new TempFolder();
        var archive = Three(folder);
        var host = new OperationHost { Clock = new FixedClock(new DateTime(2026, 10, 5, 0, 0, 0, DateTimeKind.Utc)) };
        CaptureResult Again() =>
            Do.Capture(new CaptureRequest { Source = folder.At("src"), Archive = archive, Name = "desk" }, host: host);
        var first = Again();
        Assert.Equal("2026.10.1", first.Image.Version);
        Assert.Contains(first.Warnings, w => w.Contains("2026.10.1", StringComparison.Ordinal));
        Assert.Equal("2026.10.2", Again().Image.Version);
        Assert.Equal("name-taken", Fails(() => Do.Capture(folder.At("src"), archive, "DESK", r => r with { Version = "2026.10.2" })));
        // Another archive has another set of them: there it keeps the one that it has.
        var other = folder.At("b.vmb");
        Assert.Equal("2026.09", Do.Copy(ImageReference.Parse($"{archive}#2"), other).Image.Version);
        Assert.Equal("2026.10", Do.Copy(ImageReference.Parse($"{archive}#3"), other).Image.Version);
        Assert.NotEqual("2026.10", Do.Copy(ImageReference.Parse($"{archive}#3"), other).Image.Version);
        // One that is newer already stays so, and that is said.
        Do.Capture(folder.At("src"), archive, "Desk", r => r with { Version = "2027.01" });
        var late = Again();
        Assert.Contains(late.Warnings, w => w.Contains("2027.01 stays the newest", StringComparison.Ordinal));
        Assert.NotEqual(late.Image.Number, Find(archive, "Desk"));
    }

    [Theory]
    [InlineData("a@b")]
    [InlineData("newest")]
    [InlineData("x#1")]
    [InlineData(" 1")]
    [InlineData("1\u001b[31m")]
    public void HostileVersionsAreRefused(string version)
    {
        using var folder = new TempFolder();
        var archive = Three(folder);
        Assert.Equal("bad-version", Fails(() => Do.Capture(folder.At("src"), archive, "Desk", r => r with { Version = version })));
        Assert.Equal("bad-version", Fails(() => Do.Retitle(new RetitleRequest
        {
            Image = ImageReference.Parse($"{archive}#1"),
            Version = version,
        })));
    }

    [Fact]
    public void AChannelPointsAtOneVersionAndItsMovesAreInTheHistory()
    {
        using var folder = new TempFolder();
        var archive = Three(folder);
        var host = new OperationHost { By = "somebody@somewhere" };
        MarkResult Move(int number, string channel) =>
            Do.Mark(new MarkRequest { Image = ImageReference.Parse($"{archive}#{number}"), Channels = [channel] }, host);
        Move(1, "production");
        Move(2, "pilot");
        var state = Do.History(archive)[^1].Number;
        Assert.Equal(["channel Pilot, before at 2026.09 (2)"], Move(3, "Pilot").Changes);
        Assert.Equal(3, Find(archive, "Desk@pilot"));
        Assert.Equal(1, Find(archive, "Desk@PRODUCTION"));
        Assert.Empty(Move(3, "pilot").Changes);
        var moved = Do.History(archive)[^1];
        Assert.Equal("mark 3 Desk 2026.10: channel Pilot, before at 2026.09 (2)", moved.Change);
        Assert.Equal("somebody@somewhere", moved.By);
        Do.Rewind(archive, state);
        Assert.Equal(2, Find(archive, "Desk@pilot"));
        Do.Compact(archive);
        Assert.Equal(2, Find(archive, "Desk@pilot"));
        Do.Recover(archive, folder.At("saved.vmb"));
        Assert.Equal(2, Find(folder.At("saved.vmb"), "Desk@pilot"));
        Assert.Equal("channel-taken", Fails(() =>
        {
            Do.Retitle(new RetitleRequest { Image = ImageReference.Parse($"{archive}#3"), Version = "special" });
            Move(1, "special");
        }));
        Assert.Equal("name-taken",
            Fails(() => Do.Retitle(new RetitleRequest { Image = ImageReference.Parse($"{archive}#3"), Version = "pilot" })));
        foreach (var bad in (string[])["newest", "last", "1st", "a b", "", "a@b"])
            Assert.Equal("bad-channel", Fails(() => Move(1, bad)));
    }

    [Fact]
    public void WhatIsInUseOrLockedIsNeitherDroppedNorReplaced()
    {
        using var folder = new TempFolder();
        var archive = Three(folder);
        ImageReference Of(int number) => ImageReference.Parse($"{archive}#{number}");
        Do.Mark(new MarkRequest { Image = Of(1), Channels = ["pilot"] });
        Do.Mark(new MarkRequest { Image = Of(2), Locked = true });
        var before = File.ReadAllBytes(archive);
        Assert.Equal("image-in-channel", Fails(() => Do.Drop(Of(1))));
        Assert.Equal("image-locked", Fails(() => Do.Drop(Of(2))));
        var put = new Vembar.Windows.Servicing.Files.PutChange(folder.Write("new", "n"), "new");
        Assert.Equal("image-locked", Fails(() => Do.Service($"{archive}#2", null, put)));
        Assert.Equal(before, File.ReadAllBytes(archive));
        // What is made of it is not locked itself.
        Assert.False(Do.Service($"{archive}#2", "Made of it", put).Image.Locked);
        Do.Mark(new MarkRequest { Image = Of(1), ChannelsOut = ["PILOT"] });
        Do.Mark(new MarkRequest { Image = Of(2), Locked = false });
        Do.Drop(Of(1));
        Do.Drop(Of(2));
    }

    [Fact]
    public void MarksAndChannelsTravelWithTheSameVersion()
    {
        using var folder = new TempFolder();
        var archive = Three(folder);
        var image = ImageReference.Parse($"{archive}#2");
        Do.Mark(new MarkRequest
        {
            Image = image,
            Channels = ["pilot"],
            Locked = true,
            Retires = new DateOnly(2999, 12, 31),
        });
        var other = folder.At("b.vmb");
        var same = Do.Copy(image, other).Image;
        Assert.True(same.Locked);
        Assert.Equal(new DateOnly(2999, 12, 31), same.Retires);
        Assert.Equal(same.Number, Find(other, "Desk@pilot"));
        var apart = Do.Copy(image, other, "Bench").Image;
        Assert.False(apart.Locked);
        Assert.Null(apart.Channels);
        // A title that changes nothing else takes all of it along.
        Do.Retitle(new RetitleRequest { Image = image, Name = "Table" });
        Assert.Equal(2, Find(archive, "Table@pilot"));
        Assert.Equal("no-such-version", Fails(() => Find(archive, "Desk@pilot")));
    }

    [Fact]
    public void WhatTheReferenceSaysIsAskedAboutBeforeItGoes()
    {
        using var folder = new TempFolder();
        var archive = Three(folder);
        Do.Capture(folder.At("src"), folder.At("based.vmb"), "Based", r => r with { BasedOn = archive });
        Do.Drop(ImageReference.Parse($"{archive}#1"));
        Vembar.Operations.Drop.CompactLoss? loss = null;
        var handler = new Vembar.Operations.Drop.CompactHandler(OperationHost.Default);
        Assert.Equal("not-confirmed", Fails(() => handler.HandleAsync(new(archive, null, asked =>
        {
            loss = asked;
            return false;
        }, default), NoProgress.Instance, default).GetAwaiter().GetResult()));
        Assert.Equal(["1 \"Desk\" 2026.08"], loss!.Gone);
        Assert.Equal(["based.vmb"], loss.Dependents);
        Assert.Equal(3, loss.States);
    }
}
