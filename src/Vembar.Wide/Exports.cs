using System.Runtime.InteropServices;
using Vembar.Store.Hashing;

namespace Vembar.Wide;

/// <summary>What the library offers to the program beside it.</summary>
internal static unsafe class Exports
{
    /// <summary>As <see cref="Blake3Kernel.Many"/> with 16 lanes.</summary>
    [UnmanagedCallersOnly(EntryPoint = "vembar_hash_16")]
    public static void Hash16(byte** inputs, int blocks, ulong counter, uint step, uint flags, uint first, uint last, uint* output,
        int lanes) =>
        Blake3Kernel.Many(16, inputs, blocks, counter, step, flags, first, last, output, lanes);
}
