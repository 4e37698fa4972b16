using Vembar.Demo;
using Vembar.Tests;
using Vembar.Volumes.Disks;
using Xunit;

[assembly: AssemblyFixture(typeof(DemoDisks))]

namespace Vembar.Tests;

/// <summary>The demo's virtual disks, made when the first test asks for them; tests only read them.</summary>
public sealed class DemoDisks : IDisposable
{
    private readonly TempFolder _folder = new();
    private readonly Lazy<string> _made;

    public DemoDisks() => _made = new Lazy<string>(() =>
    {
        DemoWorld.Make(_folder.Path, 1, CancellationToken.None);
        DemoWorld.MakeDisks(_folder.Path, CancellationToken.None);
        return _folder.Path;
    });

    public string At(string path) => Path.Combine(_made.Value, path);

    public string LendingDesk => At("disks/lending-desk.vhdx");

    public void Dispose() => _folder.Dispose();
}

/// <summary>A device in memory.</summary>
public sealed class MemoryDevice(byte[] bytes) : IBlockDevice
{
    public byte[] Bytes => bytes;

    public string DisplayName => "memory";

    public bool MayWrite => true;

    public long Length => bytes.Length;

    public int Reads { get; private set; }

    public int Writes { get; private set; }

    public int Read(Span<byte> to, long offset)
    {
        Reads++;
        var count = (int)Math.Clamp(Length - offset, 0, to.Length);
        bytes.AsSpan((int)Math.Min(offset, Length), count).CopyTo(to);
        return count;
    }

    public void Write(ReadOnlySpan<byte> from, long offset)
    {
        Writes++;
        from.CopyTo(bytes.AsSpan((int)offset));
    }

    public void Flush()
    {
    }

    public void Dispose()
    {
    }
}
