using Vembar.Common;
using Vembar.Operations;
using Vembar.Operations.Tails;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Xunit;

namespace Vembar.Tests.Operations;

public sealed class TakeTailTests : IDisposable
{
    private readonly TempFolder _folder = new();
    private readonly string _before, _after, _tail, _state;

    public TakeTailTests()
    {
        _folder.Write("first/one.txt", "one");
        _folder.Write("first/two.bin", new byte[200_000]);
        _before = _folder.At("before.vmb");
        Do.Capture(_folder.At("first"), _before, "first");
        _after = _folder.At("after.vmb");
        File.Copy(_before, _after);
        var random = new byte[300_000];
        new Random(1).NextBytes(random);
        _folder.Write("first/three.bin", random);
        Do.Capture(_folder.At("first"), _after, "second");
        using var archive = ArchiveReader.Open(_before);
        _state = archive.StateTag;
        _tail = _folder.Write("tail", File.ReadAllBytes(_after)[(int)archive.CommittedLength..]);
    }

    public void Dispose() => _folder.Dispose();

    private static string Take(string archive, string tail, string after, bool replaces = false, IFileSystem? layer = null,
        bool addsOnly = false) =>
        new TakeTailHandler(layer is null ? OperationHost.Default : new OperationHost { Files = layer })
            .HandleAsync(new TakeTailRequest(archive, tail, after, replaces, addsOnly, TimeSpan.Zero), NoProgress.Instance,
                CancellationToken.None)
            .GetAwaiter().GetResult();

    private string Copy(string name)
    {
        var copy = _folder.At(name);
        File.Copy(_before, copy, overwrite: true);
        return copy;
    }

    private static string Code(Action act) => Assert.Throws<VembarException>(act).Code;

    [Fact]
    public void WhatIsAddedIsAsIfItHadBeenMadeThere()
    {
        var archive = Copy("archive.vmb");
        var state = Take(archive, _tail, _state);
        Assert.Equal(File.ReadAllBytes(_after), File.ReadAllBytes(archive));
        using (var reader = ArchiveReader.Open(archive))
            Assert.Equal(state, reader.StateTag);
        // It was made for the state before, which is no more.
        Assert.Equal("place-changed", Code(() => Take(archive, _tail, _state)));
        Assert.Equal("place-changed", Code(() => Take(archive, _tail, "")));
        Assert.Equal(File.ReadAllBytes(_after), File.ReadAllBytes(archive));
    }

    [Fact]
    public void AWholeArchiveIsMadeOrTakesAPlace()
    {
        var fresh = _folder.At("fresh.vmb");
        Take(fresh, _after, "");
        Assert.Equal(File.ReadAllBytes(_after), File.ReadAllBytes(fresh));
        var archive = Copy("archive.vmb");
        Take(archive, _after, _state, replaces: true);
        Assert.Equal(File.ReadAllBytes(_after), File.ReadAllBytes(archive));
        var other = _folder.At("other.vmb");
        Do.Capture(_folder.At("first"), other, "first");
        var again = Copy("again.vmb");
        Assert.Equal("bad-tail", Code(() => Take(again, other, _state, replaces: true)));
        Assert.Equal("bad-tail", Code(() => Take(again, other, _state)));
        Assert.Equal(File.ReadAllBytes(_before), File.ReadAllBytes(again));
    }

    [Fact]
    public void WhoMayOnlyAddTakesNothingAway()
    {
        var archive = Copy("archive.vmb");
        Take(archive, _tail, _state, addsOnly: true);
        string After(Action<string> change)
        {
            var changed = Copy("changed.vmb");
            change(changed);
            using var before = ArchiveReader.Open(_before);
            return _folder.Write("changed.tail", File.ReadAllBytes(changed)[(int)before.CommittedLength..]);
        }
        var again = Copy("again.vmb");
        foreach (var change in (Action<string>[])[
            a => Do.Drop(new ImageReference(a, "1"), default),
            a => Do.Mark(new Vembar.Operations.Mark.MarkRequest { Image = new ImageReference(a, "1"), Channels = ["pilot"] }),
            a => Do.Retitle(new Vembar.Operations.History.RetitleRequest { Image = new ImageReference(a, "1"), Note = "other" })])
            Assert.Equal("bad-tail", Code(() => Take(again, After(change), _state, addsOnly: true)));
        Assert.Equal("bad-tail", Code(() => Take(again, _after, _state, replaces: true, addsOnly: true)));
        Assert.Equal(File.ReadAllBytes(_before), File.ReadAllBytes(again));
    }

    [Fact]
    public void DamageIsFoundAndNothingIsChanged()
    {
        var good = File.ReadAllBytes(_tail);
        var before = File.ReadAllBytes(_before);
        var archive = Copy("archive.vmb");
        var random = new Random(7);
        for (var tries = 0; tries < 400; tries++)
        {
            var bad = (byte[])good.Clone();
            if (tries % 4 == 0)
                bad = bad[..random.Next(1, bad.Length)];
            else
                bad[random.Next(bad.Length)] ^= (byte)(1 << random.Next(8));
            _folder.Write("bad", bad);
            try
            {
                Take(archive, _folder.At("bad"), _state);
                // Nothing that counts: both copies of what makes it count are whole, and so is all content.
                Assert.True(Do.Verify(archive).Damage.Count == 0, $"try {tries}");
                Copy("archive.vmb");
            }
            catch (VembarException problem)
            {
                Assert.Contains(problem.Code, (string[])["tail-lost", "bad-tail"]);
                Assert.Equal(before, File.ReadAllBytes(archive));
            }
        }
    }

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public void WhereverItStopsTheArchiveIsAsBeforeOrAsAfter(bool torn)
    {
        var count = new CrashLayer(int.MaxValue, torn);
        Take(Copy("whole.vmb"), _tail, _state, layer: count);
        Assert.InRange(count.Operations, 4, 100);
        for (var stop = 0; stop < count.Operations; stop++)
        {
            var archive = Copy($"stopped-{stop}.vmb");
            Assert.ThrowsAny<PowerCutException>(() => Take(archive, _tail, _state, layer: new CrashLayer(stop, torn)));
            using (var reader = ArchiveReader.Open(archive))
                Assert.Contains(reader.Sequence, (long[])[1, 2]);
            Assert.Empty(Do.Verify(archive).Damage);
            Assert.Equal("again", Do.Capture(_folder.At("first"), archive, "again").Image.Name);
            Assert.True(Do.Verify(archive).Ok, $"stopped at {stop}");
        }
    }
}
