using System.Buffers.Binary;
using System.Globalization;
using Vembar.Common;
using Vembar.Images.Paths;
using Vembar.Images.Reading;

namespace Vembar.Windows.Registry;

/// <summary>The logs beside a hive: they may hold changes that the hive itself lacks.</summary>
/// <remarks>Source: "Windows registry file format specification" (Suhanov), section "Transaction log files", the format of Windows 8.1 and
/// later.</remarks>
internal static class HiveLog
{
    private const int HeadLength = 512, EntryHeadLength = 40;

    /// <summary>How much of a log tells what it holds, in bytes.</summary>
    public const int StartLength = HeadLength + EntryHeadLength;

    private const int Longest = 1 << 30;

    /// <summary>The number of a log's first entry, where it is newer than the hive.</summary>
    /// <param name="start">The log's beginning.</param>
    /// <param name="hive">The hive's second sequence number.</param>
    /// <returns>Null when the log holds nothing new.</returns>
    public static uint? NewerEntry(ReadOnlySpan<byte> start, uint hive)
    {
        if (start.Length < StartLength || !start[HeadLength..].StartsWith("HvLE"u8))
            return null;
        var sequence = BinaryPrimitives.ReadUInt32LittleEndian(start[(HeadLength + 12)..]);
        return sequence >= hive && sequence - hive < int.MaxValue ? sequence : null;
    }

    /// <summary>Refuses a hive that lacks what its logs hold: a change would make Windows pass them over.</summary>
    /// <param name="files">Where the hive is.</param>
    /// <param name="hive">Its path.</param>
    /// <param name="number">Its second sequence number.</param>
    /// <exception cref="VembarException">It does.</exception>
    public static void Check(IReadOnlyTree files, WindowsPath hive, uint number)
    {
        foreach (var ending in (string[])[".LOG1", ".LOG2"])
        {
            var log = hive.Parent.Child(hive.Name + ending);
            if (files.Exists(log) && files.ReadFile(log, Longest) is { } found && NewerEntry(found, number) is { } entry)
            {
                throw VembarException.Input("registry-not-flushed",
                    string.Create(CultureInfo.InvariantCulture,
                    $"{files.DisplayName}: '{hive}' lacks changes that only its log '{ending[1..]}' holds (entry {entry}), and is not "
                    + $"changed"),
                    "Let that Windows start and shut down fully once more, and capture it again.");
            }
        }
    }
}
