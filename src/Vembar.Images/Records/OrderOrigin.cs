using Vembar.Store.Hashing;

namespace Vembar.Images.Records;

/// <summary>Which work order an image was serviced by.</summary>
/// <param name="File">The file's name.</param>
/// <param name="Title">What it says of itself; may be empty.</param>
/// <param name="Hash">BLAKE3 of the file, as b3sum prints.</param>
/// <param name="Variables">Its variables with the texts that they had; null when it has none.</param>
public sealed record OrderOrigin(string File, string Title, ChunkId Hash, IReadOnlyDictionary<string, string>? Variables);
