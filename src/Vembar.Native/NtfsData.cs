using System.Runtime.CompilerServices;
using System.Runtime.InteropServices;

namespace Vembar.Native;

/// <summary>An open stream of a file of an NTFS volume. Compressed and sparse ones read as what they hold.</summary>
public sealed unsafe partial class NtfsData : IDisposable
{
    private const string Library = NtfsVolume.Library;
    private const int RunsAt = 0, FlagsAt = 20, StateAt = 40, LengthAt = 56;
    private const ushort CompressedFlag = 1;
    private const int RunLength = 24;

    [LibraryImport(Library,
        SetLastError = true)]
    private static partial nint ntfs_attr_open(nint inode, uint type, char* name, uint nameLength);
    [LibraryImport(Library)] private static partial void ntfs_attr_close(nint attribute);
    [LibraryImport(Library,
        SetLastError = true)]
    private static partial long ntfs_attr_pread(nint attribute, long position, long count, byte* to);
    [LibraryImport(Library,
        SetLastError = true)]
    private static partial long ntfs_attr_pwrite(nint attribute, long position, long count, byte* from);
    [LibraryImport(Library, SetLastError = true)] private static partial int ntfs_attr_pclose(nint attribute);
    [LibraryImport(Library, SetLastError = true)] private static partial int ntfs_attr_truncate(nint attribute, long length);
    [LibraryImport(Library, SetLastError = true)] private static partial int ntfs_attr_map_whole_runlist(nint attribute);

    private readonly NtfsFile _file;
    private readonly NtfsOpenHandle _data;
    private List<(long Start, long End)>? _stretches;

    internal NtfsData(NtfsFile file, uint type, string name)
    {
        _file = file;
        nint attribute;
        fixed (char* characters = name.Length > 0 ? name : "\0")
            attribute = ntfs_attr_open(file.Handle, type, characters, (uint)name.Length);
        if (attribute == 0)
            throw file.Volume.Failed(name.Length > 0 ? $"open the stream '{name}' of" : "open the content of", file.DisplayName);
        _data = new NtfsOpenHandle(attribute, file.Volume.SafeHandle.TakeBackData);
    }

    private nint Handle => !_data.IsClosed ? _data.DangerousGetHandle() : throw new ObjectDisposedException(nameof(NtfsData));

    private T At<T>(int offset) where T : unmanaged => Unsafe.ReadUnaligned<T>((byte*)Handle + offset);

    /// <summary>Its length in bytes.</summary>
    public long Length => At<long>(LengthAt);

    /// <summary>Reads; fewer bytes than asked only at the end.</summary>
    /// <exception cref="NativeException">It cannot be read.</exception>
    public int Read(Span<byte> to, long offset)
    {
        // The library takes a place for no bytes as an invalid argument.
        if (to.IsEmpty)
            return 0;
        fixed (byte* buffer = to)
        {
            var got = ntfs_attr_pread(Handle, offset, to.Length, buffer);
            return got >= 0 ? (int)got : throw _file.Volume.Failed("read", _file.DisplayName);
        }
    }

    /// <summary>The next stretch with data from an offset on; both numbers are the length when only a hole is left.</summary>
    /// <exception cref="NativeException">Its list of runs is damaged.</exception>
    public (long Start, long End) NextData(long offset)
    {
        _stretches ??= Stretches();
        int low = 0, high = _stretches.Count;
        while (low < high)
        {
            var middle = (low + high) >>> 1;
            (low, high) = _stretches[middle].End > offset ? (low, middle) : (middle + 1, high);
        }
        return low < _stretches.Count ? (Math.Max(_stretches[low].Start, offset), _stretches[low].End) : (Length, Length);
    }

    // A compressed stream has holes in its runs that are no holes of its content.
    private List<(long, long)> Stretches()
    {
        const nuint NonResident = 2;
        const int Most = 1 << 26;
        if ((At<nuint>(StateAt) & NonResident) == 0 || (At<ushort>(FlagsAt) & CompressedFlag) != 0)
            return [(0, Length)];
        if (ntfs_attr_map_whole_runlist(Handle) != 0)
            throw _file.Volume.Failed("read the list of runs of", _file.DisplayName);
        var found = new List<(long Start, long End)>();
        var run = (byte*)At<nint>(RunsAt);
        for (var i = 0; Unsafe.ReadUnaligned<long>(run + 16) > 0; i++, run += RunLength)
        {
            // What is not looked at would be taken for a hole.
            if (i == Most)
                throw new NativeException("read the list of runs of", _file.DisplayName, Errno.InputOutput);
            long start = Unsafe.ReadUnaligned<long>(run) * _file.Volume.ClusterSize,
                end = Math.Min(start + Unsafe.ReadUnaligned<long>(run + 16) * _file.Volume.ClusterSize, Length);
            if (Unsafe.ReadUnaligned<long>(run + 8) < 0 || end <= start)
                continue;
            if (found.Count > 0 && found[^1].End == start)
                found[^1] = (found[^1].Start, end);
            else
                found.Add((start, end));
        }
        return found;
    }

    /// <summary>Writes all of it; beyond the end a hole is left.</summary>
    /// <exception cref="NativeException">It cannot be written.</exception>
    public void Write(ReadOnlySpan<byte> from, long offset)
    {
        while (from.Length > 0)
        {
            long done;
            fixed (byte* buffer = from)
                done = ntfs_attr_pwrite(Handle, offset, from.Length, buffer);
            if (done <= 0)
                throw _file.Volume.Failed("write", _file.DisplayName);
            from = from[(int)done..];
            offset += done;
        }
    }

    /// <summary>Sets the length; what is added is a hole.</summary>
    /// <exception cref="NativeException">It cannot be set.</exception>
    public void SetLength(long length)
    {
        if (ntfs_attr_truncate(Handle, length) != 0)
            throw _file.Volume.Failed("set the length of", _file.DisplayName);
    }

    /// <summary>Ends writing; a compressed stream is whole only then.</summary>
    /// <exception cref="NativeException">What was left could not be written.</exception>
    public void Finish()
    {
        if ((At<ushort>(FlagsAt) & CompressedFlag) != 0 && ntfs_attr_pclose(Handle) != 0)
            throw _file.Volume.Failed("write", _file.DisplayName);
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        if (_data.Detach() is not 0 and var attribute)
            ntfs_attr_close(attribute);
    }
}
