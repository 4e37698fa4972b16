using System.Collections.Concurrent;
using Vembar.Native;

namespace Vembar.Volumes.Sources;

/// <summary>Compares the file table of a volume with what its folders list: a damaged index loses files without a word. All that is in
/// use is in a folder, under each name that its record says.</summary>
internal sealed class NtfsFileTable
{
    private const ulong NumberMask = 0xFFFF_FFFF_FFFF;
    private const int Piece = 1 << 20;
    private readonly NtfsVolumePool _volumes;
    private readonly int _recordLength;
    private readonly int[] _listed;
    private readonly ConcurrentDictionary<ulong, SourceNode> _folders = [];

    private NtfsFileTable(NtfsVolumePool volumes, int recordLength, int records)
    {
        (_volumes, _recordLength) = (volumes, recordLength);
        _listed = new int[records];
    }

    /// <summary>Opens it.</summary>
    /// <returns>Null when it cannot be read.</returns>
    public static NtfsFileTable? TryOpen(NtfsVolumePool volumes)
    {
        const int MostRecords = 1 << 28, LongestRecord = 65536;
        var volume = volumes.Rent();
        try
        {
            using var file = volume.Open(0, "$MFT");
            using var data = file.OpenData();
            var first = new byte[Math.Min(LongestRecord, data.Length)];
            data.Read(first, 0);
            var length = NtfsRecord.LengthFrom(first);
            return length == 0 || data.Length / length > MostRecords ? null : new NtfsFileTable(volumes, length,
                (int)(data.Length / length));
        }
        catch (NativeException)
        {
            return null;
        }
        finally
        {
            volumes.Return(volume);
        }
    }

    /// <summary>Notes that a folder lists a file.</summary>
    /// <param name="reference">The file.</param>
    public void List(ulong reference)
    {
        if ((reference & NumberMask) < (ulong)_listed.Length)
            Interlocked.Increment(ref _listed[reference & NumberMask]);
    }

    /// <summary>Notes that all that a folder lists was noted.</summary>
    /// <param name="number">The folder's number.</param>
    /// <param name="folder">The folder.</param>
    public void Listed(ulong number, SourceNode folder) => _folders[number & NumberMask] = folder;

    /// <summary>Whether a folder was looked into.</summary>
    public bool IsListed(ulong number) => _folders.ContainsKey(number & NumberMask);

    /// <summary>Files that are in use, and that a folder of theirs does not list; found in one pass over the table.</summary>
    /// <exception cref="NativeException">The table cannot be read.</exception>
    public List<LostFile> FindLost(CancellationToken cancellation)
    {
        var names = new int[_listed.Length];
        var isUsed = new bool[_listed.Length];
        Each((number, record) =>
        {
            var owner = record.ContinuationOf is > 0 and var whole ? whole : (ulong)number;
            if (owner >= (ulong)names.Length)
                return;
            isUsed[owner] |= owner == (ulong)number;
            for (var at = 0; record.NextName(ref at, out var parent, out _);)
                names[owner] += _folders.ContainsKey(parent) ? 1 : 0;
        }, cancellation);
        // Those of a folder that was looked into and lists too few; and those that no folder lists.
        var suspects = new Dictionary<ulong, List<(ulong Parent, string Name)>>();
        for (var number = NtfsVolume.FirstUserFile; number < (ulong)names.Length; number++)
        {
            if (isUsed[number] && (names[number] > _listed[number] || _listed[number] == 0))
                suspects[number] = [];
        }
        if (suspects.Count == 0)
            return [];
        var sequences = new Dictionary<ulong, ushort>();
        Each((number, record) =>
        {
            var owner = record.ContinuationOf is > 0 and var whole ? whole : (ulong)number;
            if (!suspects.TryGetValue(owner, out var own))
                return;
            if (owner == (ulong)number)
                sequences[owner] = record.Sequence;
            for (var at = 0; record.NextName(ref at, out var parent, out var name);)
                own.Add((parent, new string(name)));
        }, cancellation);
        var kinds = new Dictionary<ulong, bool>();
        return [.. suspects.Where(s => names[s.Key] > 0 || IsAstray(s.Key, suspects, kinds, 0)).OrderBy(s => s.Key).SelectMany(s =>
            Lost(s.Key | (ulong)sequences.GetValueOrDefault(s.Key) << 48, s.Value))];
    }

    private IEnumerable<LostFile> Lost(ulong reference, List<(ulong Parent, string Name)> names)
    {
        var known = names.Where(n => _folders.ContainsKey(n.Parent)).ToList();
        if (known.Count == 0)
            return [new LostFile(reference, names.Count > 0 ? names[0].Name : "", null)];
        return known.Where(n => !_folders[n.Parent].Children!.Any(c => c.Name == n.Name))
            .Select(n => new LostFile(reference, n.Name, _folders[n.Parent]));
    }

    // Whether nothing leads to it: what is in folders of NTFS' own, or in folders that were left out, is where it should be.
    private bool IsAstray(ulong number, Dictionary<ulong, List<(ulong Parent, string Name)>> suspects, Dictionary<ulong, bool> known,
        int depth)
    {
        const int Deepest = 256;
        if (known.TryGetValue(number, out var isAstray))
            return isAstray;
        known[number] = true;
        return known[number] = depth > Deepest || !suspects[number].Any(n => n.Parent is < NtfsVolume.FirstUserFile and not NtfsVolume.Root
            || (!_folders.ContainsKey(n.Parent) && (n.Parent < (ulong)_listed.Length && _listed[n.Parent] > 0
            || suspects.ContainsKey(n.Parent) && !IsAstray(n.Parent, suspects, known, depth + 1))));
    }

    private delegate void Seen(int number, NtfsRecord record);

    private void Each(Seen seen, CancellationToken cancellation)
    {
        var volume = _volumes.Rent();
        try
        {
            using var file = volume.Open(0, "$MFT");
            using var data = file.OpenData();
            var bytes = new byte[Piece];
            for (var at = 0L; at < (long)_listed.Length * _recordLength; at += Piece)
            {
                cancellation.ThrowIfCancellationRequested();
                var count = data.Read(bytes, at);
                for (var i = 0; i + _recordLength <= count; i += _recordLength)
                {
                    if (NtfsRecord.TryRead(bytes.AsSpan(i, _recordLength), out var record))
                        seen((int)((at + i) / _recordLength), record);
                }
            }
        }
        finally
        {
            _volumes.Return(volume);
        }
    }
}
