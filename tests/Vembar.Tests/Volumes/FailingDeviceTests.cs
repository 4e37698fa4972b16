using Vembar.Native;
using Vembar.Volumes.Disks;
using Xunit;

namespace Vembar.Tests.Volumes;

/// <summary>Devices that fail to read, to write or to keep what was written, once or for good.</summary>
public sealed class FailingDeviceTests : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    // Fails at one operation, or from one on.
    private sealed class Failing(byte[] bytes, int at, bool goesOn, bool flushFails) : IBlockDevice
    {
        public int Operations { get; private set; }

        public string DisplayName => "a disk";

        public long Length => bytes.Length;

        public bool MayWrite => true;

        private void Step()
        {
            var number = Operations++;
            if (number == at || (goesOn && number >= at && at >= 0))
                throw new NativeException("write", "a disk", Errno.InputOutput);
        }

        public int Read(Span<byte> to, long offset)
        {
            Step();
            var count = (int)Math.Clamp(bytes.Length - offset, 0, to.Length);
            bytes.AsSpan((int)offset, count).CopyTo(to);
            return count;
        }

        public void Write(ReadOnlySpan<byte> from, long offset)
        {
            Step();
            from.CopyTo(bytes.AsSpan((int)offset));
        }

        public void Flush()
        {
            if (flushFails)
                throw new NativeException("flush", "a disk", Errno.InputOutput);
        }

        public void Dispose()
        {
        }
    }

    private byte[] Volume() => File.ReadAllBytes(NtfsVolumes.Make(_folder, mebibytes: 8));

    private static bool Fill(IBlockDevice device)
    {
        using var volume = NtfsVolume.Open(device, write: true, keepDevice: true);
        for (var i = 0; i < 12; i++)
        {
            using var root = volume.Open(NtfsVolume.Root, "/");
            using var file = volume.Create(root, $"file-{i}", isFolder: false, 0, "a file");
            using (var data = file.OpenData())
                data.Write(new byte[3000 * i], 0);
            file.Close(root);
        }
        var failed = volume.HasDeviceFailed;
        volume.Close();
        return failed;
    }

    private static List<string> Names(byte[] bytes)
    {
        using var volume = NtfsVolume.Open(new MemoryDevice(bytes), write: false);
        using var root = volume.Open(NtfsVolume.Root, "/");
        return [.. root.Names().Select(n => n.Name).Where(n => n.StartsWith("file", StringComparison.Ordinal)).Order()];
    }

    [Fact]
    public void WhatFailsOnceIsTriedAgain()
    {
        var fresh = Volume();
        var whole = fresh.ToArray();
        var counting = new Failing(whole, -1, goesOn: false, flushFails: false);
        Assert.False(Fill(counting));
        for (var at = 0; at < counting.Operations; at += 3)
        {
            var bytes = fresh.ToArray();
            Assert.False(Fill(new Failing(bytes, at, goesOn: false, flushFails: false)));
            Assert.Equal(Names(whole), Names(bytes));
        }
    }

    [Fact]
    public void WhatGoesOnFailingIsToldAndNeverPassesForDone()
    {
        var fresh = Volume();
        var counting = new Failing(fresh.ToArray(), -1, goesOn: false, flushFails: false);
        Fill(counting);
        for (var at = 0; at < counting.Operations; at += 3)
            Assert.Throws<NativeException>(() => Fill(new Failing(fresh.ToArray(), at, goesOn: true, flushFails: false)));
        Assert.Throws<NativeException>(() => Fill(new Failing(fresh.ToArray(), -1, goesOn: false, flushFails: true)));
    }

    // fsync(2) of what cannot be made durable: the framework passes over the errors of some.
    [Fact]
    public void AFlushThatFailsIsNotPassedOver()
    {
        Assert.SkipUnless(File.Exists("/proc/self/mem"), "needs a file that cannot be made durable");
        using var memory = Posix.OpenFile("/proc/self/mem", write: false);
        Assert.Equal(Errno.Invalid, Assert.Throws<NativeException>(() => Posix.Sync(memory)).Errno);
    }
}
