using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Operations.History;
using Vembar.Operations.Service;
using Vembar.Store.Compression;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Vembar.Windows.Servicing.Files;
using Xunit;

namespace Vembar.Tests;

/// <summary>
/// A file layer on which the power goes at a chosen operation. Then of all that was written and not made durable any part may be
/// lost: some writes are undone (what was beyond the end reads as zeros), some halves of writes, and the end of the file.
/// </summary>
public sealed class LosingLayer(int stopAt, Random random) : IFileSystem
{
    private sealed record Change(string Path, long Offset, byte[] Before, long LengthBefore);

    private readonly List<Change> _pending = [];
    private bool _dead;

    public int Operations { get; private set; }

    private void Count()
    {
        if (_dead)
            throw new PowerCutException();
        if (Operations++ != stopAt)
            return;
        Lose();
        throw new PowerCutException();
    }

    /// <summary>The power goes now.</summary>
    public void Lose()
    {
        _dead = true;
        // Often a single one: where much is lost, what is left is seldom taken for whole.
        var one = random.Next(2) == 0 && _pending.Count > 0 ? _pending[random.Next(_pending.Count)] : null;
        foreach (var change in _pending.AsEnumerable().Reverse()
            .Where(c => File.Exists(c.Path) && (one is null ? random.Next(2) == 0 : c == one)))
        {
            using var file = LocalFileSystem.Instance.OpenWrite(change.Path);
            var from = random.Next(3) == 0 ? change.Before.Length / 2 : 0;
            file.Write(change.Before.AsSpan(from), change.Offset + from);
        }
        foreach (var file in _pending.GroupBy(c => c.Path).Where(g => one is null && File.Exists(g.Key) && random.Next(3) == 0))
        {
            using var open = LocalFileSystem.Instance.OpenWrite(file.Key);
            var least = file.Min(c => c.LengthBefore);
            if (open.Length > least)
                open.Truncate(random.NextInt64(least, open.Length));
        }
    }

    public IByteSource OpenRead(string path) => LocalFileSystem.Instance.OpenRead(path);

    public IArchiveFile OpenWrite(string path) =>
        new Wrapped(this, System.IO.Path.GetFullPath(path), LocalFileSystem.Instance.OpenWrite(path));

    public IArchiveFile CreateNew(string path)
    {
        Count();
        return new Wrapped(this, System.IO.Path.GetFullPath(path), LocalFileSystem.Instance.CreateNew(path));
    }

    public void Rename(string from, string to, bool replace)
    {
        Count();
        LocalFileSystem.Instance.Rename(from, to, replace);
        for (var i = 0; i < _pending.Count; i++)
        {
            if (_pending[i].Path == System.IO.Path.GetFullPath(from))
                _pending[i] = _pending[i] with { Path = System.IO.Path.GetFullPath(to) };
        }
    }

    public void Delete(string path)
    {
        Count();
        LocalFileSystem.Instance.Delete(path);
    }

    private sealed class Wrapped(LosingLayer layer, string path, IArchiveFile file) : IArchiveFile
    {
        public long Length => file.Length;

        public int Read(Span<byte> to, long offset) => file.Read(to, offset);

        public void Write(ReadOnlySpan<byte> bytes, long offset)
        {
            layer.Count();
            var before = new byte[bytes.Length];
            file.Read(before, offset);
            layer._pending.Add(new Change(path, offset, before, file.Length));
            file.Write(bytes, offset);
        }

        public void Sync()
        {
            layer.Count();
            file.Sync();
            layer._pending.RemoveAll(c => c.Path == path);
        }

        public void Truncate(long length)
        {
            layer.Count();
            if (length < file.Length)
            {
                var before = new byte[file.Length - length];
                file.Read(before, length);
                layer._pending.Add(new Change(path, length, before, length));
            }
            file.Truncate(length);
        }

        public bool TryLock() => file.TryLock();

        public bool IsStillAt(string at) => file.IsStillAt(at);

        public void Dispose() => file.Dispose();
    }
}

/// <summary>What is left of an archive when the power goes while it is written.</summary>
public sealed class PowerCutTests
{
    private static readonly ImageReference s_first = new("", "1");

    // Every command that writes an archive, by name.
    private static readonly Dictionary<string, Action<string, string, IFileSystem>> s_works = new()
    {
        ["capture"] = (folder, archive, layer) => Do.Capture(Path.Combine(folder, "other"), archive, "more", layer: layer),
        ["service"] = (_, archive, layer) => Do.Service(
            new ServiceRequest
            {
                Image = s_first with { Archive = archive },
                Changes = [new RemoveChange("text.txt")],
                InPlace = true,
            }, NoProgress.Instance, CancellationToken.None, layer),
        ["drop"] = (_, archive, layer) => Do.Drop(s_first with { Archive = archive }, default, layer),
        ["retitle"] = (_, archive, layer) => Do.Retitle(new RetitleRequest
        {
            Image = s_first with { Archive = archive },
            Name = "renamed",
        }, layer),
        ["rewind"] = (_, archive, layer) => Do.Rewind(archive, 1, default, layer),
        ["copy"] = (folder, archive, layer) => Do.Copy(
            ImageReference.Parse(Path.Combine(folder, "from.vmb#1")), archive, null, default, NoProgress.Instance, CancellationToken.None,
            layer),
        ["compact"] = (_, archive, layer) => Do.Compact(archive, Effort.Quick, default, NoProgress.Instance,
        CancellationToken.None, layer),
    };

    public static TheoryData<string> Works => [.. s_works.Keys];

    private static string Prepare(TempFolder folder)
    {
        var random = new Random(8);
        foreach (var tree in (string[])["src", "other", "third"])
        {
            folder.Write($"{tree}/text.txt", $"text of {tree}");
            for (var i = 0; i < 5; i++)
            {
                var bytes = new byte[20_000 * (i + 1)];
                random.NextBytes(bytes);
                folder.Write($"{tree}/inner/{i}", bytes);
            }
        }
        Do.Capture(folder.At("third"), folder.At("from.vmb"), "copied");
        var archive = folder.At("prepared.vmb");
        Do.Capture(folder.At("src"), archive);
        Do.Capture(folder.At("third"), archive, "two");
        // What an interrupted run left stands behind it.
        File.AppendAllText(archive, new string('?', 5_000));
        return archive;
    }

    private static string State(string archive)
    {
        using var reader = ArchiveReader.Open(archive);
        return string.Join(';', reader.Images.Select(i => $"{i.Number} {i.Name} {i.Root}"));
    }

    [Theory]
    [MemberData(nameof(Works))]
    public void WhatWasToldToBeDoneIsDoneAndWhatWasNotLeavesWhatWasThere(string name)
    {
        using var folder = new TempFolder();
        var prepared = Prepare(folder);
        var before = State(prepared);
        var whole = folder.At("whole.vmb");
        File.Copy(prepared, whole);
        var random = new Random(name.Length);
        var count = new LosingLayer(int.MaxValue, random);
        s_works[name](folder.Path, whole, count);
        // Whoever was told that it is done can pull the plug.
        count.Lose();
        var after = State(whole);
        Assert.True(Do.Verify(whole).Ok);
        Assert.Equal(name == "compact", before == after);
        var seen = new HashSet<string>();
        for (var stop = 0; stop < count.Operations; stop++)
        {
            for (var round = 0; round < 4; round++)
            {
                var archive = folder.At("archive.vmb");
                File.Copy(prepared, archive, overwrite: true);
                Assert.ThrowsAny<PowerCutException>(() => s_works[name](folder.Path, archive, new LosingLayer(stop, random)));
                var found = State(archive);
                Assert.True(found == before || found == after, $"{name} stopped at {stop}: {found}");
                Assert.Empty(Do.Verify(archive).Damage);
                seen.Add(found);
                Do.Capture(folder.At("other"), archive, "again");
                Assert.True(Do.Verify(archive).Ok, $"{name} stopped at {stop}, then captured into");
                File.Delete(archive);
            }
        }
        Assert.Contains(before, seen);
    }

    [Fact]
    public void AnArchiveThatIsMadeIsThereWholeOrNotAtAll()
    {
        using var folder = new TempFolder();
        Prepare(folder);
        var random = new Random(1);
        var count = new LosingLayer(int.MaxValue, random);
        s_works["capture"](folder.Path, folder.At("whole.vmb"), count);
        count.Lose();
        var after = State(folder.At("whole.vmb"));
        Assert.NotEqual("", after);
        for (var stop = 0; stop < count.Operations; stop++)
        {
            for (var round = 0; round < 4; round++)
            {
                var archive = folder.At($"{stop}-{round}/archive.vmb");
                Directory.CreateDirectory(Path.GetDirectoryName(archive)!);
                Assert.ThrowsAny<PowerCutException>(() => s_works["capture"](folder.Path, archive, new LosingLayer(stop, random)));
                Assert.True(!File.Exists(archive) || State(archive) is var found && (found == "" || found == after));
                Do.Capture(folder.At("src"), archive, "again");
                Assert.True(Do.Verify(archive).Ok);
            }
        }
    }
}
