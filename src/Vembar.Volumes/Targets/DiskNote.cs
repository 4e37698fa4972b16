using System.Buffers.Binary;
using System.Text;
using System.Text.Json;
using Vembar.Store.Hashing;
using Vembar.Volumes.Disks;

namespace Vembar.Volumes.Targets;

/// <summary>
/// What lies on a disk while it is written, before its first partition: which deployment it is, so that it can be gone on with, and what
/// whoever began it wants to find again. docs/disk-layout.md, "While it is written".
/// </summary>
/// <param name="Key">What tells the deployment from others.</param>
/// <param name="Text">What whoever began it wants to find again.</param>
/// <param name="JournalStart">Where on the disk the journal is, in bytes.</param>
/// <param name="JournalLength">How long it is.</param>
public sealed record DiskNote(string Key, string Text, long JournalStart, long JournalLength)
{
    private const int Place = UnfinishedMark.Place, Longest = 64 << 10, HeadLength = 48;

    /// <summary>Where the room before the first partition begins that a journal may use.</summary>
    internal const int JournalPlace = Place + Longest;

    /// <summary>Reads the note of a disk; null where there is none.</summary>
    public static DiskNote? Read(IBlockDevice disk)
    {
        var bytes = new byte[Longest];
        if (disk.Length < Place + Longest || disk.Read(bytes, Place) < bytes.Length || !bytes.AsSpan().StartsWith(UnfinishedMark.Magic))
            return null;
        var length = BinaryPrimitives.ReadInt32LittleEndian(bytes.AsSpan(8));
        if (length is <= 0 or > Longest - HeadLength
            || !Encoding.ASCII.GetString(bytes, 16, 32).Equals(HashOf(bytes.AsSpan(HeadLength, length)), StringComparison.Ordinal))
            return null;
        try
        {
            return JsonSerializer.Deserialize(bytes.AsSpan(HeadLength, length), DeployJournalJson.Default.DiskNote);
        }
        catch (JsonException)
        {
            return null;
        }
    }

    private static string HashOf(ReadOnlySpan<byte> bytes) => Blake3.Hash(bytes).ToString()[..32];

    /// <summary>Writes it.</summary>
    internal void Write(IBlockDevice disk)
    {
        var json = JsonSerializer.SerializeToUtf8Bytes(this, DeployJournalJson.Default.DiskNote);
        if (json.Length > Longest - HeadLength)
            throw new ArgumentException("the note is too long", nameof(disk));
        var bytes = new byte[Longest];
        UnfinishedMark.Magic.CopyTo(bytes);
        BinaryPrimitives.WriteInt32LittleEndian(bytes.AsSpan(8), json.Length);
        Encoding.ASCII.GetBytes(HashOf(json)).CopyTo(bytes, 16);
        json.CopyTo(bytes, HeadLength);
        disk.Write(bytes, Place);
        disk.Flush();
    }

    /// <summary>Takes the note of a disk off it, with all that was needed to go on: what is deployed there is finished, or given
    /// up.</summary>
    /// <param name="disk">The disk, to be written.</param>
    public static void Remove(IBlockDevice disk)
    {
        if (Read(disk) is not { } note)
            return;
        if (note.JournalStart >= 0 && note.JournalLength >= 0 && note.JournalStart <= disk.Length - note.JournalLength)
            CheckpointedDevice.Erase(disk, note.JournalStart, note.JournalLength);
        disk.Write(new byte[Longest], Place);
        disk.Flush();
    }
}
