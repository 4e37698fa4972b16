using System.Runtime.InteropServices;

namespace Vembar.Native;

/// <summary>
/// The hashing kernel for processors with 512-bit vectors, in a library of its own: a program compiled ahead of time is for one
/// generation of processors, and this is the next.
/// </summary>
public static unsafe class WideKernel
{
    private const string Library = "libvembar-wide.so";

    // What the library is compiled for; Linux lists a flag only where it saves the registers too.
    private static readonly string[] s_needed = ["avx512f", "avx512bw", "avx512cd", "avx512dq", "avx512vl"];

    private static readonly nint s_hash16 = Find();

    /// <summary>Whether the processor has what the library needs, and the library lies beside the program.</summary>
    public static bool IsThere => s_hash16 != 0;

    /// <summary>Compresses 16 inputs side by side; the parameters are those of the kernel in the core.</summary>
    public static void Hash16(byte** inputs, int blocks, ulong counter, uint step, uint flags, uint first, uint last, uint* output,
        int lanes) =>
        ((delegate* unmanaged<byte**, int, ulong, uint, uint, uint, uint, uint*, int, void>)s_hash16)(inputs, blocks, counter, step, flags,
        first, last, output, lanes);

    private static nint Find()
    {
        if (RuntimeInformation.ProcessArchitecture != Architecture.X64 || !s_needed.All(ProcessorFlags().Contains))
            return 0;
        return NativeLibrary.TryLoad(Path.Combine(AppContext.BaseDirectory, Library), out var library)
            && NativeLibrary.TryGetExport(library, "vembar_hash_16", out var function)
                ? function
                : 0;
    }

    private static HashSet<string> ProcessorFlags()
    {
        try
        {
            // The first processor's flags; the file is as long as there are processors.
            var line = File.ReadLines("/proc/cpuinfo").FirstOrDefault(l => l.StartsWith("flags", StringComparison.Ordinal)) ?? "";
            return [.. line[(line.IndexOf(':') + 1)..].Split(' ', StringSplitOptions.RemoveEmptyEntries)];
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return [];
        }
    }
}
