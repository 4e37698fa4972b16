using Vembar.Volumes.Disks;

namespace Vembar.Tests.Volumes;

/// <summary>A disk in memory whose power goes at a chosen write or flush. What was written since the last flush is there or not, sector by
/// sector, as chance has it.</summary>
internal sealed class FlakyDevice(byte[] durable, int stopAt, Random random) : IBlockDevice
{
    private const int Sector = 512;
    private readonly byte[] _seen = [.. durable];
    private readonly SortedSet<long> _unsure = [];

    public int Operations { get; private set; }

    public string DisplayName => "a disk";

    public long Length => durable.Length;

    public bool MayWrite => true;

    public int Read(Span<byte> to, long offset)
    {
        var count = (int)Math.Clamp(_seen.Length - offset, 0, to.Length);
        _seen.AsSpan((int)offset, count).CopyTo(to);
        return count;
    }

    public void Write(ReadOnlySpan<byte> from, long offset)
    {
        from.CopyTo(_seen.AsSpan((int)offset));
        for (var sector = offset / Sector; sector * Sector < offset + from.Length; sector++)
            _unsure.Add(sector);
        Count();
    }

    public void Flush()
    {
        Count();
        foreach (var sector in _unsure)
            _seen.AsSpan((int)sector * Sector, Sector).CopyTo(durable.AsSpan((int)sector * Sector));
        _unsure.Clear();
    }

    private void Count()
    {
        if (Operations++ != stopAt)
            return;
        foreach (var sector in _unsure.Where(_ => random.Next(2) == 0))
            _seen.AsSpan((int)sector * Sector, Sector).CopyTo(durable.AsSpan((int)sector * Sector));
        throw new PowerCutException();
    }

    public void Dispose()
    {
    }
}
