using Vembar.Images.Nodes;
using Vembar.Store.Hashing;

namespace Vembar.Volumes.Sources;

/// <summary>Content that is not in an archive yet, as parts to compare a file with.</summary>
internal static class NewContentParts
{
    /// <summary>One part: all of it.</summary>
    /// <exception cref="Native.NativeException">Its file cannot be read.</exception>
    public static IReadOnlyList<ContentPart> Of(NewContent content)
    {
        var bytes = content.ToBytes();
        return bytes.Length == 0 ? [] : [new ContentPart(Blake3.Hash(bytes), bytes.Length)];
    }
}
