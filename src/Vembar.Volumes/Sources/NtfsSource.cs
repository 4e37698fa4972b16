using System.Buffers.Binary;
using System.Globalization;
using Vembar.Common;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Records;
using Vembar.Native;
using Vembar.Volumes.Compaction;
using Vembar.Volumes.Disks;

namespace Vembar.Volumes.Sources;

/// <summary>
/// An NTFS volume as the root of an install. Nothing of it is written, not a time and not a flag. Each thread reads through
/// a handle of its own.
/// </summary>
public sealed class NtfsSource : ISource
{
    private const int KeptFolders = 64;

    private readonly NtfsVolumePool _volumes;
    private readonly Dictionary<WindowsPath, List<NtfsName>?> _folders = [];
    private readonly Lock _gate = new();

    private NtfsSource(string displayName, Func<IBlockDevice> open)
    {
        DisplayName = displayName;
        _volumes = new NtfsVolumePool(open);
    }

    /// <summary>Opens a volume.</summary>
    /// <param name="displayName">What it is, for messages.</param>
    /// <param name="open">Opens the bytes that it lies on; called once for every thread that reads.</param>
    /// <exception cref="VembarException">It is not NTFS, or too damaged to be read.</exception>
    public static NtfsSource Open(string displayName, Func<IBlockDevice> open)
    {
        var source = new NtfsSource(displayName, open);
        try
        {
            using (var device = open())
            {
                const int SerialAt = 0x48;
                Span<byte> boot = stackalloc byte[512];
                if (device.Read(boot, 0) == boot.Length)
                    source.Identity = BinaryPrimitives.ReadUInt64LittleEndian(boot[SerialAt..])
                        .ToString("x16", CultureInfo.InvariantCulture);
            }
            var volume = source._volumes.Rent();
            source.IsDirty = volume.IsDirty;
            source.IsJournalClean = NtfsJournal.IsClean(volume);
            source.Label = volume.Label;
            source._volumes.Return(volume);
            return source;
        }
        catch (Exception failure)
        {
            source.Dispose();
            if (failure is NativeException { Errno: Errno.Invalid or Errno.InputOutput } native)
                throw VembarException.Input("bad-volume", $"{displayName} cannot be read as NTFS: {native.Message}",
                    "It may be damaged or cut short: let Windows check it (chkdsk), or take it from another copy.");
            if (VembarException.From(failure, "open", displayName) is { } error)
                throw error;
            throw;
        }
    }

    /// <inheritdoc/>
    public string Kind => "volume";

    /// <inheritdoc/>
    public string DisplayName { get; }

    /// <summary>The volume's serial number.</summary>
    public string Identity { get; private set; } = "";

    /// <summary>The volume's label.</summary>
    public string Label { get; private set; } = "";

    /// <summary>True when Windows did not close the volume cleanly.</summary>
    public bool IsDirty { get; private set; }

    /// <summary>Whether Windows has written all that its journal holds to where it belongs.</summary>
    public bool IsJournalClean { get; private set; } = true;

    /// <inheritdoc/>
    public bool KeepsChangeTimes => true;

    /// <inheritdoc/>
    public DateTime? ChangedBefore(DateTime began, long latest) => null;

    /// <inheritdoc/>
    public Task<SourceTree> WalkAsync(WalkOptions options, CancellationToken cancellation) =>
        new NtfsWalker(DisplayName, _volumes).RunAsync(options, cancellation);

    /// <inheritdoc/>
    public ISourceFile Open(SourceNode node)
    {
        if (node.Entry.Compaction == CompactedForm.None)
            return _volumes.OpenStream(node.FileId, "", node.Path.ToString());
        var displayName = node.Path.ToString();
#pragma warning disable CA2000 // owned by the file that is returned
        var stream = _volumes.OpenStream(node.FileId, CompactedForms.Stream, displayName);
#pragma warning restore CA2000
        return new CompactedFile(stream, new CompactedContent(node.Entry.Compaction, node.Length, stream.Length, stream.Read),
            $"{DisplayName}: '{displayName}'");
    }

    private T With<T>(WindowsPath path, Func<NtfsVolume, T> work)
    {
        var volume = _volumes.Rent();
        try
        {
            return work(volume);
        }
        catch (NativeException failure)
        {
            throw NtfsWalker.Unreadable(DisplayName, failure, [.. path.Parts]);
        }
        finally
        {
            _volumes.Return(volume);
        }
    }

    // Null when there is no such folder. What is looked for is looked for near each other.
    private List<NtfsName>? Listing(NtfsVolume volume, WindowsPath folder)
    {
        lock (_gate)
        {
            if (_folders.TryGetValue(folder, out var kept))
                return kept;
        }
        List<NtfsName>? names = null;
        if (Locate(volume, folder) is { } reference)
        {
            using var file = volume.Open(reference, folder.ToString());
            names = file.IsFolder ? file.Names() : null;
        }
        lock (_gate)
        {
            if (_folders.Count >= KeptFolders)
                _folders.Clear();
            return _folders[folder] = names;
        }
    }

    private ulong? Locate(NtfsVolume volume, WindowsPath path)
    {
        if (path.IsRoot)
            return NtfsVolume.Root;
        var name = path.Parts[^1];
        if (Listing(volume, path.Parent) is not { } names)
            return null;
        var found = names.FirstOrDefault(n => n.Name == name);
        if (found.Name is null)
            found = names.FirstOrDefault(n => n.Name.Equals(name, StringComparison.OrdinalIgnoreCase));
        return found.Name is null ? null : found.Reference;
    }

    /// <inheritdoc/>
    public IReadOnlyList<string> Names(WindowsPath folder) =>
        With<IReadOnlyList<string>>(folder,
        volume => Listing(volume, folder) is { } names ? [.. names.Select(n => n.Name).Order(StringComparer.Ordinal)] : []);

    /// <inheritdoc/>
    public bool Exists(WindowsPath path) => With(path, volume => Locate(volume, path) is not null);

    /// <inheritdoc/>
    public byte[]? ReadFile(WindowsPath path, long max) => WithData(path, data => data.Length <= max ? data.Length
        : throw VembarException.Input("file-too-large",
        $"{DisplayName}: '{path}' is {data.Length} bytes long; at most {max} can be read here"));

    /// <inheritdoc/>
    public byte[]? ReadStart(WindowsPath path, int count) => WithData(path, data => Math.Min(count, data.Length));

    // As many bytes of a file's beginning as are asked for; null when there is no such file.
    private byte[]? WithData(WindowsPath path, Func<NtfsData, long> length) => With(path, volume =>
    {
        if (Locate(volume, path) is not { } reference)
            return null;
        using var file = volume.Open(reference, path.ToString());
        if (file.IsFolder)
            return null;
        using var data = file.OpenData();
        var bytes = new byte[length(data)];
        var form = CompactedForms.Of(file.Describe().Reparse);
        if (form == CompactedForm.None)
        {
            var got = data.Read(bytes, 0);
            return got == bytes.Length ? bytes : bytes[..got];
        }
        using var stream = file.OpenData(CompactedForms.Stream);
        try
        {
            new CompactedContent(form, data.Length, stream.Length, stream.Read).Read(bytes, 0);
            return bytes;
        }
        catch (InvalidDataException damage)
        {
            throw VembarException.Input("unreadable", $"{DisplayName}: '{path}': {damage.Message}",
                "Let Windows check the volume (chkdsk), or take the disk from another copy.");
        }
    });

    /// <inheritdoc/>
    public void Dispose() => _volumes.Dispose();
}
