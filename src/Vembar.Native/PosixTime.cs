namespace Vembar.Native;

/// <summary>A time as Linux keeps it.</summary>
/// <param name="Seconds">Seconds since 1970-01-01 UTC; may be negative.</param>
/// <param name="Nanoseconds">0 to 999,999,999.</param>
public readonly record struct PosixTime(long Seconds, uint Nanoseconds);
