using System.Security.Cryptography;

namespace Vembar.Operations.Starters;

/// <summary>A file of a starter.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Bytes">How long it is.</param>
/// <param name="Sha256">Its hash.</param>
public sealed record StarterFile(string Name, long Bytes, string Sha256)
{
    /// <summary>Describes a file of a folder.</summary>
    /// <exception cref="IOException">It cannot be read.</exception>
    internal static async Task<StarterFile> ReadAsync(string folder, string name, CancellationToken cancellation)
    {
        var file = File.OpenRead(Path.Combine(folder, name));
        await using (file.ConfigureAwait(false))
            return new StarterFile(name, file.Length,
                Convert.ToHexStringLower(await SHA256.HashDataAsync(file, cancellation).ConfigureAwait(false)));
    }
}
