using Vembar.Native;

namespace Vembar.Images.Nodes;

/// <summary>A moment as NTFS counts it, and what Linux knows beyond that.</summary>
/// <param name="Ticks">100-nanosecond steps since 1601-01-01 UTC.</param>
/// <param name="Rest">Nanoseconds beyond the last whole step, 0 to 99; always 0 when the source is NTFS.</param>
public readonly record struct FileTime(long Ticks, byte Rest = 0)
{
    private const long UnixEpoch = 116_444_736_000_000_000;
    private const long TicksPerSecond = 10_000_000;

    /// <summary>From a time of Linux.</summary>
    public static FileTime From(PosixTime time) =>
        new(UnixEpoch + time.Seconds * TicksPerSecond + time.Nanoseconds / 100, (byte)(time.Nanoseconds % 100));

    /// <summary>From a framework time.</summary>
    public static FileTime From(DateTime time) => new(time.ToUniversalTime().ToFileTimeUtc());

    /// <summary>As a time of Linux.</summary>
    public PosixTime ToPosix()
    {
        var seconds = Math.DivRem(Ticks - UnixEpoch, TicksPerSecond, out var rest);
        if (rest < 0)
        {
            seconds--;
            rest += TicksPerSecond;
        }
        return new PosixTime(seconds, (uint)(rest * 100 + Rest));
    }

    /// <summary>As a framework time, UTC; the nearest that it can hold.</summary>
    public DateTime ToDateTime() =>
        DateTime.FromFileTimeUtc(Math.Clamp(Ticks, 0, DateTime.MaxValue.Ticks - new DateTime(1601, 1, 1, 0, 0, 0, DateTimeKind.Utc).Ticks));
}
