namespace Vembar.Operations.Stations.Contract;

/// <summary>A part of an archive that is sent to many at once.</summary>
/// <param name="Offset">Where it begins in the archive, in bytes.</param>
/// <param name="Length">How long it is, in bytes.</param>
/// <param name="Hash">The first 16 bytes of its BLAKE3 hash, in hexadecimal digits.</param>
public sealed record WavePiece(long Offset, int Length, string Hash);
