using System.Runtime.InteropServices;
using Microsoft.Win32.SafeHandles;

namespace Vembar.Native;

/// <summary>
/// Reads cabinets, 7-Zip files, ISO 9660 images and tar files, also compressed ones, through libarchive: from the start to the
/// end, one entry after the other. One thread at a time.
/// </summary>
public sealed unsafe partial class PackedReader : IDisposable
{
    private const string Library = "libarchive.so.13", C = "libc";
    private const int Ok = 0, End = 1, Warn = -20, TypeMask = 0xF000, RegularFile = 0x8000, BlockSize = 1 << 16, CharacterTypes = 1;

    [LibraryImport(Library)] private static partial nint archive_read_new();
    [LibraryImport(Library)] private static partial int archive_read_support_format_cab(nint reader);
    [LibraryImport(Library)] private static partial int archive_read_support_format_7zip(nint reader);
    [LibraryImport(Library)] private static partial int archive_read_support_format_iso9660(nint reader);
    [LibraryImport(Library)] private static partial int archive_read_support_format_tar(nint reader);
    [LibraryImport(Library)] private static partial int archive_read_support_filter_gzip(nint reader);
    [LibraryImport(Library)] private static partial int archive_read_support_filter_bzip2(nint reader);
    [LibraryImport(Library)] private static partial int archive_read_support_filter_xz(nint reader);
    [LibraryImport(Library)] private static partial int archive_read_support_filter_lzma(nint reader);
    [LibraryImport(Library)] private static partial int archive_read_support_filter_zstd(nint reader);
    [LibraryImport(Library)] private static partial int archive_read_open_fd(nint reader, int file, nuint blockSize);
    [LibraryImport(Library)] private static partial int archive_read_next_header(nint reader, out nint entry);
    [LibraryImport(Library)] private static partial nint archive_read_data(nint reader, byte* to, nuint room);
    [LibraryImport(Library)] private static partial nint archive_error_string(nint reader);
    [LibraryImport(Library)] private static partial int archive_read_free(nint reader);
    [LibraryImport(Library)] private static partial nint archive_entry_pathname_utf8(nint entry);
    [LibraryImport(Library)] private static partial nint archive_entry_hardlink_utf8(nint entry);
    [LibraryImport(Library)] private static partial uint archive_entry_filetype(nint entry);
    [LibraryImport(Library)] private static partial long archive_entry_size(nint entry);
    [LibraryImport(Library)] private static partial int archive_entry_size_is_set(nint entry);
    [LibraryImport(Library)] private static partial int archive_entry_is_encrypted(nint entry);
    [LibraryImport(C, StringMarshalling = StringMarshalling.Utf8)] private static partial nint newlocale(int mask, string name, nint from);
    [LibraryImport(C)] private static partial nint uselocale(nint locale);

    // The library takes names apart as the thread's locale says; this one holds every name, whatever the user's is.
    private static readonly nint s_locale = newlocale(CharacterTypes, "C.UTF-8", 0);

    private readonly SafeFileHandle _file;
    private readonly Handle _reader;

    private PackedReader(SafeFileHandle file, Handle reader)
    {
        _file = file;
        _reader = reader;
    }

    /// <summary>Opens a packed file, whichever of those it is.</summary>
    /// <param name="file">The file, at its start; the reader owns it from here on.</param>
    /// <exception cref="InvalidDataException">It is none of those.</exception>
    /// <exception cref="DllNotFoundException">The library is not installed.</exception>
    public static PackedReader Open(SafeFileHandle file)
    {
        var native = new Handle(archive_read_new());
        var reader = new PackedReader(file, native);
        try
        {
            var a = native.DangerousGetHandle();
            ReadOnlySpan<int> support =
            [
                archive_read_support_format_cab(a), archive_read_support_format_7zip(a), archive_read_support_format_iso9660(a),
                archive_read_support_format_tar(a),
                archive_read_support_filter_gzip(a), archive_read_support_filter_bzip2(a), archive_read_support_filter_xz(a),
                archive_read_support_filter_lzma(a),
                archive_read_support_filter_zstd(a),
            ];
            foreach (var result in support)
                reader.Check(result);
            reader.Check(archive_read_open_fd(a, (int)file.DangerousGetHandle(), BlockSize));
            return reader;
        }
        catch
        {
            reader.Dispose();
            throw;
        }
    }

    /// <summary>Goes on to the next entry.</summary>
    /// <returns>The entry, or null at the end.</returns>
    /// <exception cref="InvalidDataException">The packed file is damaged, cut off, or encrypted.</exception>
    public PackedEntry? Next()
    {
        var before = uselocale(s_locale);
        try
        {
            if (Check(archive_read_next_header(_reader.DangerousGetHandle(), out var entry)) == End)
                return null;
            if (archive_entry_is_encrypted(entry) != 0)
                throw new InvalidDataException("it is encrypted");
            var name = Marshal.PtrToStringUTF8(archive_entry_pathname_utf8(entry))
                ?? throw new InvalidDataException("it holds a name that is not text");
            var length = archive_entry_size_is_set(entry) != 0 ? archive_entry_size(entry) : -1;
            var isFile = (archive_entry_filetype(entry) & TypeMask) == RegularFile;
            return new PackedEntry(name, isFile, length, Marshal.PtrToStringUTF8(archive_entry_hardlink_utf8(entry)));
        }
        finally
        {
            uselocale(before);
        }
    }

    /// <summary>Reads on in the content of the entry.</summary>
    /// <returns>How many bytes; 0 at its end.</returns>
    /// <exception cref="InvalidDataException">It is damaged or cut off.</exception>
    public int Read(Span<byte> to)
    {
        fixed (byte* at = to)
        {
            var before = uselocale(s_locale);
            try
            {
                return Check((int)archive_read_data(_reader.DangerousGetHandle(), at, (nuint)to.Length));
            }
            finally
            {
                uselocale(before);
            }
        }
    }

    // The call's result where it is none of an error.
    private int Check(int result)
    {
        if (result >= Warn)
            return Math.Max(result, 0);
        throw new InvalidDataException(Marshal.PtrToStringUTF8(archive_error_string(_reader.DangerousGetHandle()))
            ?? "it is cut off or damaged");
    }

    /// <summary>Closes the reader and its file.</summary>
    public void Dispose()
    {
        _reader.Dispose();
        _file.Dispose();
    }

    private sealed class Handle : SafeHandleZeroOrMinusOneIsInvalid
    {
        public Handle(nint reader) : base(ownsHandle: true) => SetHandle(reader);

        protected override bool ReleaseHandle() => archive_read_free(handle) == Ok;
    }
}
