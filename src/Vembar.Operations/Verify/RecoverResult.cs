using Vembar.Images.Records;

namespace Vembar.Operations.Verify;

/// <summary>What recovering saved.</summary>
/// <param name="Archive">The new archive.</param>
/// <param name="Images">The images in it.</param>
/// <param name="Blocks">Sound blocks that were found.</param>
/// <param name="Lost">Images, files and folders that could not be saved, each with its image.</param>
public sealed record RecoverResult(string Archive, IReadOnlyList<ImageRecord> Images, long Blocks, IReadOnlyList<Damage> Lost);
