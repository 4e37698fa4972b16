namespace Vembar.Native;

/// <summary>One of a file's names.</summary>
/// <param name="Parent">The number of the folder that it is in, without the sequence number.</param>
/// <param name="Name">The name.</param>
/// <param name="IsLong">Whether programs see it; false for a name in the 8.3 form alone.</param>
/// <param name="IsShort">Whether it is in the 8.3 form; true for both where one name serves as both.</param>
public readonly record struct NtfsFileName(ulong Parent, string Name, bool IsLong, bool IsShort);
