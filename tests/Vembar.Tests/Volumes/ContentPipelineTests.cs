using Vembar.Common;
using Vembar.Native;
using Vembar.Operations;
using Vembar.Operations.Capture;
using Vembar.Store.Places;
using Xunit;

namespace Vembar.Tests;

/// <summary>Reading and storing many files at once, ended and failing on the way.</summary>
[Collection(nameof(ContentPipelineTests))]
public class ContentPipelineTests
{
    private static string Source(TempFolder folder)
    {
        var random = new Random(9);
        for (var i = 0; i < 300; i++)
        {
            var bytes = new byte[random.Next(1, 120_000)];
            random.NextBytes(bytes);
            folder.Write($"src/d{i % 9}/f{i}", bytes);
        }
        return folder.At("src");
    }

    // Files below a folder that this process has open.
    private static List<string> Open(string folder) =>
        [.. Directory.GetFileSystemEntries("/proc/self/fd").Select(e => new FileInfo(e).LinkTarget ?? "")
            .Where(t => t.StartsWith(folder, StringComparison.Ordinal))];

    [Fact]
    public void EndedAnywhereItLeavesNothingAndHoldsNothing()
    {
        using var folder = new TempFolder();
        var source = Source(folder);
        var request = new CaptureRequest { Source = source, Archive = folder.At("a.vmb"), Name = "one" };
        Do.Capture(source, folder.At("there.vmb"));
        var there = File.ReadAllBytes(folder.At("there.vmb"));
        folder.Write("src/more", new byte[3_000_000]);
        foreach (var reports in (int[])[0, 1, 2, 3, 5])
        {
            using var stop = new StopAfter(reports, "reading and storing");
            try
            {
                Do.Capture(request, stop, stop.Token);
                Assert.Fail("there are more reports than that");
            }
            catch (OperationCanceledException)
            {
                // As it should.
            }
            Assert.Empty(Open(folder.Path));
            Assert.False(File.Exists(folder.At("a.vmb")));
        }
        using var again = new StopAfter(0, "reading and storing");
        Assert.ThrowsAny<OperationCanceledException>(
            () => Do.Capture(request with { Archive = folder.At("there.vmb"), Name = "two" }, again, again.Token));
        Assert.Equal(there, File.ReadAllBytes(folder.At("there.vmb")));
        Assert.Empty(Open(folder.Path));
    }

    // A disk that is full after so many writes.
    private sealed class FullDisk(int writes) : IFileSystem
    {
        private int _left = writes;

        public IByteSource OpenRead(string path) => LocalFileSystem.Instance.OpenRead(path);

        public IArchiveFile OpenWrite(string path) => new Wrapped(this, LocalFileSystem.Instance.OpenWrite(path));

        public IArchiveFile CreateNew(string path) => LocalFileSystem.Instance.CreateNew(path);

        public void Rename(string from, string to, bool replace) => LocalFileSystem.Instance.Rename(from, to, replace);

        public void Delete(string path) => LocalFileSystem.Instance.Delete(path);

        private sealed class Wrapped(FullDisk disk, IArchiveFile file) : IArchiveFile
        {
            public long Length => file.Length;

            public int Read(Span<byte> to, long offset) => file.Read(to, offset);

            public void Write(ReadOnlySpan<byte> bytes, long offset)
            {
                if (disk._left-- <= 0)
                    throw new NativeException("write", "a.vmb", Errno.NoSpace);
                file.Write(bytes, offset);
            }

            public void Sync() => file.Sync();

            public void Truncate(long length) => file.Truncate(length);

            public bool TryLock() => file.TryLock();

            public bool IsStillAt(string path) => file.IsStillAt(path);

            public void Dispose() => file.Dispose();
        }
    }

    [Fact]
    public void AFullDiskEndsItAndHoldsNothing()
    {
        using var folder = new TempFolder();
        var source = Source(folder);
        for (var writes = 0; writes < 4; writes++)
        {
            var told = Assert.Throws<VembarException>(() => Do.Capture(source, folder.At("a.vmb"), layer: new FullDisk(writes)));
            Assert.Equal((ErrorKind.Environment, "no-room"), (told.Kind, told.Code));
            Assert.Empty(Open(folder.Path));
            Assert.False(File.Exists(folder.At("a.vmb")));
        }
        Do.Capture(source, folder.At("a.vmb"));
        Assert.True(Do.Verify(folder.At("a.vmb")).Ok);
    }

    // Does something else when a folder is first looked into.
    private sealed class Meddling(Action meddle) : IProgress<OperationProgress>
    {
        private int _done;

        public void Report(OperationProgress value)
        {
            if (value.Phase == "looking" && Interlocked.Exchange(ref _done, 1) == 0)
                meddle();
        }
    }

    [Fact]
    public void AFileThatGoesAwayIsToldAndTheOthersAreWhole()
    {
        using var folder = new TempFolder();
        for (var i = 0; i < 600; i++)
            folder.Write($"src/f{i:000}", $"content {i}");
        var gone = folder.At("src/f599");
        var result = Do.Capture(new CaptureRequest { Source = folder.At("src"), Archive = folder.At("a.vmb"), Name = "one" },
            new Meddling(() => File.Delete(gone)));
        Assert.True(Do.Verify(folder.At("a.vmb")).Ok);
        Do.Deploy(folder.At("a.vmb"), folder.At("out"));
        Assert.Equal(result.Image.Files, Directory.EnumerateFiles(folder.At("out")).Count());
        Assert.Equal(599, result.Image.Files);
        Assert.Contains(result.Warnings, w => w.Contains("'f599' went away", StringComparison.Ordinal));
    }
}
