using System.Runtime.CompilerServices;
using System.Runtime.Intrinsics;
using System.Runtime.Intrinsics.X86;

namespace Vembar.Store.Hashing;

/// <summary>
/// The compression function of BLAKE3 over one or several independent inputs at once: plain integers and vectors of 4, 8
/// and 16 lanes give the same result; the widest that the processor has is chosen when the program runs.
/// </summary>
/// <remarks>Source: "BLAKE3: one function, fast everywhere" (O'Connor, Aumasson, Neves, Wilcox-O'Hearn, 2020), sections 2.2 to
/// 2.5.</remarks>
internal static unsafe partial class Blake3Kernel
{
    public const int BlockLength = 64;
    public const int ChunkLength = 1024;
    public const uint ChunkStart = 1, ChunkEnd = 2, Parent = 4, Root = 8;

    public const uint Iv0 = 0x6A09E667, Iv1 = 0xBB67AE85, Iv2 = 0x3C6EF372, Iv3 = 0xA54FF53A;
    public const uint Iv4 = 0x510E527F, Iv5 = 0x9B05688C, Iv6 = 0x1F83D9AB, Iv7 = 0x5BE0CD19;

    /// <summary>The most lanes that this code takes at once on this processor: 16, 8, 4 or 1.</summary>
    public static int Lanes => Avx512F.IsSupported ? 16 : Avx2.IsSupported ? 8 : Vector128.IsHardwareAccelerated ? 4 : 1;

    /// <summary>Compresses <paramref name="lanes"/> inputs of the same number of whole blocks and writes a chaining value of 32 bytes for
    /// each.</summary>
    /// <param name="width">Which kernel: 16, 8, 4 or 1, at most <see cref="Lanes"/>.</param>
    /// <param name="inputs">Where each lane's input begins; <paramref name="width"/> addresses.</param>
    /// <param name="blocks">Whole blocks in each input.</param>
    /// <param name="counter">The first lane's chunk counter.</param>
    /// <param name="step">1 when each lane counts one further, 0 when all have the same counter (parents).</param>
    /// <param name="flags">Flags of every block.</param>
    /// <param name="first">Further flags of the first block.</param>
    /// <param name="last">Further flags of the last block.</param>
    /// <param name="output">Room for 8 words a lane.</param>
    /// <param name="lanes">How many lanes hold an input of their own.</param>
    public static void Many(int width, byte** inputs, int blocks, ulong counter, uint step, uint flags, uint first, uint last,
        uint* output, int lanes)
    {
        switch (width)
        {
            case 16 when Avx512F.IsSupported:
                Run16(inputs, blocks, counter, step, flags, first, last, output, lanes);
                break;
            case 8 when Avx2.IsSupported:
                Run8(inputs, blocks, counter, step, flags, first, last, output, lanes);
                break;
            case 4:
                Run4(inputs, blocks, counter, step, flags, first, last, output, lanes);
                break;
            default:
                Run1(inputs, blocks, counter, step, flags, first, last, output, lanes);
                break;
        }
    }

    private static void Counters(uint* low, uint* high, ulong counter, uint step)
    {
        for (var i = 0; i < 16; i++)
        {
            var own = counter + (ulong)i * step;
            low[i] = (uint)own;
            high[i] = (uint)(own >> 32);
        }
    }

    // Words of one kind lie beside each other in the vectors; in a chaining value the eight of a lane do.
    private static void Spread(uint* words, int width, uint* output, int lanes)
    {
        for (var lane = 0; lane < lanes; lane++)
        {
            for (var word = 0; word < 8; word++)
                output[8 * lane + word] = words[width * word + lane];
        }
    }

    [SkipLocalsInit]
    private static void Run1(byte** inputs, int blocks, ulong counter, uint step, uint flags, uint first, uint last, uint* output,
        int lanes)
    {
        var low = stackalloc uint[16];
        var high = stackalloc uint[16];
        Counters(low, high, counter, step);
        var counterLow = *low;
        var counterHigh = *high;
        Unsafe.SkipInit(out State<uint> state);
        state.H0 = Iv0;
        state.H1 = Iv1;
        state.H2 = Iv2;
        state.H3 = Iv3;
        state.H4 = Iv4;
        state.H5 = Iv5;
        state.H6 = Iv6;
        state.H7 = Iv7;
        for (var block = 0; block < blocks; block++)
            Compress1(ref state, inputs, block * BlockLength, counterLow, counterHigh, BlockLength,
                flags | (block == 0 ? first : 0) | (block == blocks - 1 ? last : 0));
        output[0] = state.H0;
        output[1] = state.H1;
        output[2] = state.H2;
        output[3] = state.H3;
        output[4] = state.H4;
        output[5] = state.H5;
        output[6] = state.H6;
        output[7] = state.H7;
    }

    [SkipLocalsInit]
    private static void Run4(byte** inputs, int blocks, ulong counter, uint step, uint flags, uint first, uint last, uint* output,
        int lanes)
    {
        var low = stackalloc uint[16];
        var high = stackalloc uint[16];
        Counters(low, high, counter, step);
        var counterLow = Vector128.Load(low);
        var counterHigh = Vector128.Load(high);
        Unsafe.SkipInit(out State<Vector128<uint>> state);
        state.H0 = Vector128.Create(Iv0);
        state.H1 = Vector128.Create(Iv1);
        state.H2 = Vector128.Create(Iv2);
        state.H3 = Vector128.Create(Iv3);
        state.H4 = Vector128.Create(Iv4);
        state.H5 = Vector128.Create(Iv5);
        state.H6 = Vector128.Create(Iv6);
        state.H7 = Vector128.Create(Iv7);
        for (var block = 0; block < blocks; block++)
            Compress4(ref state, inputs, block * BlockLength, counterLow, counterHigh, BlockLength,
                flags | (block == 0 ? first : 0) | (block == blocks - 1 ? last : 0));
        var words = stackalloc uint[8 * 4];
        state.H0.Store(words + 0);
        state.H1.Store(words + 4);
        state.H2.Store(words + 8);
        state.H3.Store(words + 12);
        state.H4.Store(words + 16);
        state.H5.Store(words + 20);
        state.H6.Store(words + 24);
        state.H7.Store(words + 28);
        Spread(words, 4, output, lanes);
    }

    [SkipLocalsInit]
    private static void Run8(byte** inputs, int blocks, ulong counter, uint step, uint flags, uint first, uint last, uint* output,
        int lanes)
    {
        var low = stackalloc uint[16];
        var high = stackalloc uint[16];
        Counters(low, high, counter, step);
        var counterLow = Vector256.Load(low);
        var counterHigh = Vector256.Load(high);
        Unsafe.SkipInit(out State<Vector256<uint>> state);
        state.H0 = Vector256.Create(Iv0);
        state.H1 = Vector256.Create(Iv1);
        state.H2 = Vector256.Create(Iv2);
        state.H3 = Vector256.Create(Iv3);
        state.H4 = Vector256.Create(Iv4);
        state.H5 = Vector256.Create(Iv5);
        state.H6 = Vector256.Create(Iv6);
        state.H7 = Vector256.Create(Iv7);
        for (var block = 0; block < blocks; block++)
            Compress8(ref state, inputs, block * BlockLength, counterLow, counterHigh, BlockLength,
                flags | (block == 0 ? first : 0) | (block == blocks - 1 ? last : 0));
        var words = stackalloc uint[8 * 8];
        state.H0.Store(words + 0);
        state.H1.Store(words + 8);
        state.H2.Store(words + 16);
        state.H3.Store(words + 24);
        state.H4.Store(words + 32);
        state.H5.Store(words + 40);
        state.H6.Store(words + 48);
        state.H7.Store(words + 56);
        Spread(words, 8, output, lanes);
    }

    [SkipLocalsInit]
    private static void Run16(byte** inputs, int blocks, ulong counter, uint step, uint flags, uint first, uint last, uint* output,
        int lanes)
    {
        var low = stackalloc uint[16];
        var high = stackalloc uint[16];
        Counters(low, high, counter, step);
        var counterLow = Vector512.Load(low);
        var counterHigh = Vector512.Load(high);
        Unsafe.SkipInit(out State<Vector512<uint>> state);
        state.H0 = Vector512.Create(Iv0);
        state.H1 = Vector512.Create(Iv1);
        state.H2 = Vector512.Create(Iv2);
        state.H3 = Vector512.Create(Iv3);
        state.H4 = Vector512.Create(Iv4);
        state.H5 = Vector512.Create(Iv5);
        state.H6 = Vector512.Create(Iv6);
        state.H7 = Vector512.Create(Iv7);
        for (var block = 0; block < blocks; block++)
            Compress16(ref state, inputs, block * BlockLength, counterLow, counterHigh, BlockLength,
                flags | (block == 0 ? first : 0) | (block == blocks - 1 ? last : 0));
        var words = stackalloc uint[8 * 16];
        state.H0.Store(words + 0);
        state.H1.Store(words + 16);
        state.H2.Store(words + 32);
        state.H3.Store(words + 48);
        state.H4.Store(words + 64);
        state.H5.Store(words + 80);
        state.H6.Store(words + 96);
        state.H7.Store(words + 112);
        Spread(words, 16, output, lanes);
    }

    /// <summary>Compresses one input of whole blocks, as <see cref="Many"/> does several.</summary>
    [SkipLocalsInit]
    public static void Single(byte* input, int blocks, ulong counter, uint flags, uint first, uint last, uint* output)
    {
        // The output may lie where the input does.
        var value = stackalloc uint[] { Iv0, Iv1, Iv2, Iv3, Iv4, Iv5, Iv6, Iv7 };
        for (var block = 0; block < blocks; block++)
            One(input + block * BlockLength, BlockLength, counter, flags | (block == 0 ? first : 0) | (block == blocks - 1 ? last : 0),
                value);
        for (var word = 0; word < 8; word++)
            output[word] = value[word];
    }

    /// <summary>Compresses one block of 1 to 64 bytes (padded with zeros by the caller) into a chaining value.</summary>
    public static void One(byte* block, uint length, ulong counter, uint flags, uint* chainingValue)
    {
        if (Ssse3.IsSupported && Sse41.IsSupported)
        {
            CompressRows(chainingValue, block, counter, length, flags);
            return;
        }
        ref var state = ref Unsafe.AsRef<State<uint>>(chainingValue);
        Compress1(ref state, &block, 0, (uint)counter, (uint)(counter >> 32), length, flags);
    }

    // One block with the sixteen words of the state as four rows, so that the four mixings of a column step, and then of a
    // diagonal step, are done at once. The paper's section 5.3 names it the way for single blocks; the words of the message are
    // brought into order by shuffles within four vectors, by the same permutation before each round but the first.
    [SkipLocalsInit]
    [MethodImpl(MethodImplOptions.AggressiveOptimization)]
    private static void CompressRows(uint* value, byte* block, ulong counter, uint length, uint flags)
    {
        const int Rounds = 7;
        var right16 = Vector128.Create((byte)2, 3, 0, 1, 6, 7, 4, 5, 10, 11, 8, 9, 14, 15, 12, 13);
        var right8 = Vector128.Create((byte)1, 2, 3, 0, 5, 6, 7, 4, 9, 10, 11, 8, 13, 14, 15, 12);
        var a = Vector128.Load(value);
        var b = Vector128.Load(value + 4);
        var c = Vector128.Create(Iv0, Iv1, Iv2, Iv3);
        var d = Vector128.Create((uint)counter, (uint)(counter >> 32), length, flags);
        var words = (float*)block;
        Vector128<float> m0 = Vector128.Load(words), m1 = Vector128.Load(words + 4), m2 = Vector128.Load(words + 8),
            m3 = Vector128.Load(words + 12);
        // Even and odd words of the first half for the columns; of the second half, turned by one, for the diagonals.
        var x0 = Sse.Shuffle(m0, m1, 0b10_00_10_00).AsUInt32();
        var x1 = Sse.Shuffle(m0, m1, 0b11_01_11_01).AsUInt32();
        var x2 = Sse2.Shuffle(Sse.Shuffle(m2, m3, 0b10_00_10_00).AsUInt32(), 0b10_01_00_11);
        var x3 = Sse2.Shuffle(Sse.Shuffle(m2, m3, 0b11_01_11_01).AsUInt32(), 0b10_01_00_11);
        for (var round = 0; ; round++)
        {
            a = a + b + x0;
            d = Ssse3.Shuffle((d ^ a).AsByte(), right16).AsUInt32();
            c += d;
            b ^= c;
            b = (b >>> 12) | (b << 20);
            a = a + b + x1;
            d = Ssse3.Shuffle((d ^ a).AsByte(), right8).AsUInt32();
            c += d;
            b ^= c;
            b = (b >>> 7) | (b << 25);
            // The row of b stands still and the others turn, so that the words for the diagonals are turned by one as well.
            a = Sse2.Shuffle(a, 0b10_01_00_11);
            d = Sse2.Shuffle(d, 0b01_00_11_10);
            c = Sse2.Shuffle(c, 0b00_11_10_01);
            a = a + b + x2;
            d = Ssse3.Shuffle((d ^ a).AsByte(), right16).AsUInt32();
            c += d;
            b ^= c;
            b = (b >>> 12) | (b << 20);
            a = a + b + x3;
            d = Ssse3.Shuffle((d ^ a).AsByte(), right8).AsUInt32();
            c += d;
            b ^= c;
            b = (b >>> 7) | (b << 25);
            a = Sse2.Shuffle(a, 0b00_11_10_01);
            d = Sse2.Shuffle(d, 0b01_00_11_10);
            c = Sse2.Shuffle(c, 0b10_01_00_11);
            if (round == Rounds - 1)
                break;
            var y0 = Sse2.Shuffle(Sse.Shuffle(x0.AsSingle(), x1.AsSingle(), 0b11_01_01_10).AsUInt32(), 0b00_11_10_01);
            var y1 = Sse41.Blend(Sse2.Shuffle(x0, 0b00_00_11_11).AsUInt16(),
                Sse.Shuffle(x2.AsSingle(), x3.AsSingle(), 0b11_11_10_10).AsUInt16(), 0b1100_1100).AsUInt32();
            var y2 = Sse2.Shuffle(Sse41.Blend(Sse2.UnpackLow(x3.AsUInt64(), x1.AsUInt64()).AsUInt16(), x2.AsUInt16(), 0b1100_0000)
                .AsUInt32(), 0b01_11_10_00);
            var y3 = Sse2.Shuffle(Sse2.UnpackLow(x2, Sse2.UnpackHigh(x1, x3)), 0b00_01_11_10);
            (x0, x1, x2, x3) = (y0, y1, y2, y3);
        }
        (a ^ c).Store(value);
        (b ^ d).Store(value + 4);
    }

    private struct State<TVector> where TVector : struct
    {
        public TVector H0, H1, H2, H3, H4, H5, H6, H7;
    }

    private static uint Word(byte* p) => System.Buffers.Binary.BinaryPrimitives.ReadUInt32LittleEndian(new ReadOnlySpan<byte>(p, 4));

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    private static void Load1(byte** inputs, int offset, out uint m0, out uint m1, out uint m2, out uint m3, out uint m4, out uint m5,
        out uint m6, out uint m7, out uint m8, out uint m9, out uint m10, out uint m11, out uint m12, out uint m13, out uint m14,
        out uint m15)
    {
        var p = inputs[0] + offset;
        m0 = Word(p + 0);
        m1 = Word(p + 4);
        m2 = Word(p + 8);
        m3 = Word(p + 12);
        m4 = Word(p + 16);
        m5 = Word(p + 20);
        m6 = Word(p + 24);
        m7 = Word(p + 28);
        m8 = Word(p + 32);
        m9 = Word(p + 36);
        m10 = Word(p + 40);
        m11 = Word(p + 44);
        m12 = Word(p + 48);
        m13 = Word(p + 52);
        m14 = Word(p + 56);
        m15 = Word(p + 60);
    }

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    private static void Load4(byte** inputs, int offset, out Vector128<uint> m0, out Vector128<uint> m1, out Vector128<uint> m2,
        out Vector128<uint> m3, out Vector128<uint> m4, out Vector128<uint> m5, out Vector128<uint> m6, out Vector128<uint> m7,
        out Vector128<uint> m8, out Vector128<uint> m9, out Vector128<uint> m10, out Vector128<uint> m11, out Vector128<uint> m12,
        out Vector128<uint> m13, out Vector128<uint> m14, out Vector128<uint> m15)
    {
        uint* a = (uint*)(inputs[0] + offset), b = (uint*)(inputs[1] + offset), c = (uint*)(inputs[2] + offset),
            d = (uint*)(inputs[3] + offset);
        m0 = Vector128.Create(a[0], b[0], c[0], d[0]);
        m1 = Vector128.Create(a[1], b[1], c[1], d[1]);
        m2 = Vector128.Create(a[2], b[2], c[2], d[2]);
        m3 = Vector128.Create(a[3], b[3], c[3], d[3]);
        m4 = Vector128.Create(a[4], b[4], c[4], d[4]);
        m5 = Vector128.Create(a[5], b[5], c[5], d[5]);
        m6 = Vector128.Create(a[6], b[6], c[6], d[6]);
        m7 = Vector128.Create(a[7], b[7], c[7], d[7]);
        m8 = Vector128.Create(a[8], b[8], c[8], d[8]);
        m9 = Vector128.Create(a[9], b[9], c[9], d[9]);
        m10 = Vector128.Create(a[10], b[10], c[10], d[10]);
        m11 = Vector128.Create(a[11], b[11], c[11], d[11]);
        m12 = Vector128.Create(a[12], b[12], c[12], d[12]);
        m13 = Vector128.Create(a[13], b[13], c[13], d[13]);
        m14 = Vector128.Create(a[14], b[14], c[14], d[14]);
        m15 = Vector128.Create(a[15], b[15], c[15], d[15]);
    }

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    private static void Load8(byte** inputs, int offset, out Vector256<uint> m0, out Vector256<uint> m1, out Vector256<uint> m2,
        out Vector256<uint> m3, out Vector256<uint> m4, out Vector256<uint> m5, out Vector256<uint> m6, out Vector256<uint> m7,
        out Vector256<uint> m8, out Vector256<uint> m9, out Vector256<uint> m10, out Vector256<uint> m11, out Vector256<uint> m12,
        out Vector256<uint> m13, out Vector256<uint> m14, out Vector256<uint> m15)
    {
        Transpose8(inputs, offset, out m0, out m1, out m2, out m3, out m4, out m5, out m6, out m7);
        Transpose8(inputs, offset + 32, out m8, out m9, out m10, out m11, out m12, out m13, out m14, out m15);
    }

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    private static void Transpose8(byte** inputs, int offset, out Vector256<uint> m0, out Vector256<uint> m1, out Vector256<uint> m2,
        out Vector256<uint> m3, out Vector256<uint> m4, out Vector256<uint> m5, out Vector256<uint> m6, out Vector256<uint> m7)
    {
        var a0 = Vector256.Load((uint*)(inputs[0] + offset));
        var a1 = Vector256.Load((uint*)(inputs[1] + offset));
        var a2 = Vector256.Load((uint*)(inputs[2] + offset));
        var a3 = Vector256.Load((uint*)(inputs[3] + offset));
        var a4 = Vector256.Load((uint*)(inputs[4] + offset));
        var a5 = Vector256.Load((uint*)(inputs[5] + offset));
        var a6 = Vector256.Load((uint*)(inputs[6] + offset));
        var a7 = Vector256.Load((uint*)(inputs[7] + offset));
        var b0 = Avx2.UnpackLow(a0, a1).AsUInt64();
        var b1 = Avx2.UnpackHigh(a0, a1).AsUInt64();
        var b2 = Avx2.UnpackLow(a2, a3).AsUInt64();
        var b3 = Avx2.UnpackHigh(a2, a3).AsUInt64();
        var b4 = Avx2.UnpackLow(a4, a5).AsUInt64();
        var b5 = Avx2.UnpackHigh(a4, a5).AsUInt64();
        var b6 = Avx2.UnpackLow(a6, a7).AsUInt64();
        var b7 = Avx2.UnpackHigh(a6, a7).AsUInt64();
        var c0 = Avx2.UnpackLow(b0, b2).AsUInt32();
        var c1 = Avx2.UnpackHigh(b0, b2).AsUInt32();
        var c2 = Avx2.UnpackLow(b1, b3).AsUInt32();
        var c3 = Avx2.UnpackHigh(b1, b3).AsUInt32();
        var d0 = Avx2.UnpackLow(b4, b6).AsUInt32();
        var d1 = Avx2.UnpackHigh(b4, b6).AsUInt32();
        var d2 = Avx2.UnpackLow(b5, b7).AsUInt32();
        var d3 = Avx2.UnpackHigh(b5, b7).AsUInt32();
        m0 = Avx2.Permute2x128(c0, d0, 0x20);
        m1 = Avx2.Permute2x128(c1, d1, 0x20);
        m2 = Avx2.Permute2x128(c2, d2, 0x20);
        m3 = Avx2.Permute2x128(c3, d3, 0x20);
        m4 = Avx2.Permute2x128(c0, d0, 0x31);
        m5 = Avx2.Permute2x128(c1, d1, 0x31);
        m6 = Avx2.Permute2x128(c2, d2, 0x31);
        m7 = Avx2.Permute2x128(c3, d3, 0x31);
    }

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    private static void Load16(byte** inputs, int offset, out Vector512<uint> m0, out Vector512<uint> m1, out Vector512<uint> m2,
        out Vector512<uint> m3, out Vector512<uint> m4, out Vector512<uint> m5, out Vector512<uint> m6, out Vector512<uint> m7,
        out Vector512<uint> m8, out Vector512<uint> m9, out Vector512<uint> m10, out Vector512<uint> m11, out Vector512<uint> m12,
        out Vector512<uint> m13, out Vector512<uint> m14, out Vector512<uint> m15)
    {
        var a0 = Vector512.Load((uint*)(inputs[0] + offset));
        var a1 = Vector512.Load((uint*)(inputs[1] + offset));
        var a2 = Vector512.Load((uint*)(inputs[2] + offset));
        var a3 = Vector512.Load((uint*)(inputs[3] + offset));
        var a4 = Vector512.Load((uint*)(inputs[4] + offset));
        var a5 = Vector512.Load((uint*)(inputs[5] + offset));
        var a6 = Vector512.Load((uint*)(inputs[6] + offset));
        var a7 = Vector512.Load((uint*)(inputs[7] + offset));
        var a8 = Vector512.Load((uint*)(inputs[8] + offset));
        var a9 = Vector512.Load((uint*)(inputs[9] + offset));
        var a10 = Vector512.Load((uint*)(inputs[10] + offset));
        var a11 = Vector512.Load((uint*)(inputs[11] + offset));
        var a12 = Vector512.Load((uint*)(inputs[12] + offset));
        var a13 = Vector512.Load((uint*)(inputs[13] + offset));
        var a14 = Vector512.Load((uint*)(inputs[14] + offset));
        var a15 = Vector512.Load((uint*)(inputs[15] + offset));
        var b0 = Avx512F.UnpackLow(a0, a1).AsUInt64();
        var b1 = Avx512F.UnpackHigh(a0, a1).AsUInt64();
        var b2 = Avx512F.UnpackLow(a2, a3).AsUInt64();
        var b3 = Avx512F.UnpackHigh(a2, a3).AsUInt64();
        var b4 = Avx512F.UnpackLow(a4, a5).AsUInt64();
        var b5 = Avx512F.UnpackHigh(a4, a5).AsUInt64();
        var b6 = Avx512F.UnpackLow(a6, a7).AsUInt64();
        var b7 = Avx512F.UnpackHigh(a6, a7).AsUInt64();
        var b8 = Avx512F.UnpackLow(a8, a9).AsUInt64();
        var b9 = Avx512F.UnpackHigh(a8, a9).AsUInt64();
        var b10 = Avx512F.UnpackLow(a10, a11).AsUInt64();
        var b11 = Avx512F.UnpackHigh(a10, a11).AsUInt64();
        var b12 = Avx512F.UnpackLow(a12, a13).AsUInt64();
        var b13 = Avx512F.UnpackHigh(a12, a13).AsUInt64();
        var b14 = Avx512F.UnpackLow(a14, a15).AsUInt64();
        var b15 = Avx512F.UnpackHigh(a14, a15).AsUInt64();
        var c00 = Avx512F.UnpackLow(b0, b2).AsUInt32();
        var c01 = Avx512F.UnpackHigh(b0, b2).AsUInt32();
        var c02 = Avx512F.UnpackLow(b1, b3).AsUInt32();
        var c03 = Avx512F.UnpackHigh(b1, b3).AsUInt32();
        var c10 = Avx512F.UnpackLow(b4, b6).AsUInt32();
        var c11 = Avx512F.UnpackHigh(b4, b6).AsUInt32();
        var c12 = Avx512F.UnpackLow(b5, b7).AsUInt32();
        var c13 = Avx512F.UnpackHigh(b5, b7).AsUInt32();
        var c20 = Avx512F.UnpackLow(b8, b10).AsUInt32();
        var c21 = Avx512F.UnpackHigh(b8, b10).AsUInt32();
        var c22 = Avx512F.UnpackLow(b9, b11).AsUInt32();
        var c23 = Avx512F.UnpackHigh(b9, b11).AsUInt32();
        var c30 = Avx512F.UnpackLow(b12, b14).AsUInt32();
        var c31 = Avx512F.UnpackHigh(b12, b14).AsUInt32();
        var c32 = Avx512F.UnpackLow(b13, b15).AsUInt32();
        var c33 = Avx512F.UnpackHigh(b13, b15).AsUInt32();
        var d00 = Avx512F.Shuffle4x128(c00, c10, 0x88);
        var d01 = Avx512F.Shuffle4x128(c20, c30, 0x88);
        var d02 = Avx512F.Shuffle4x128(c00, c10, 0xDD);
        var d03 = Avx512F.Shuffle4x128(c20, c30, 0xDD);
        m0 = Avx512F.Shuffle4x128(d00, d01, 0x88);
        m8 = Avx512F.Shuffle4x128(d00, d01, 0xDD);
        m4 = Avx512F.Shuffle4x128(d02, d03, 0x88);
        m12 = Avx512F.Shuffle4x128(d02, d03, 0xDD);
        var d10 = Avx512F.Shuffle4x128(c01, c11, 0x88);
        var d11 = Avx512F.Shuffle4x128(c21, c31, 0x88);
        var d12 = Avx512F.Shuffle4x128(c01, c11, 0xDD);
        var d13 = Avx512F.Shuffle4x128(c21, c31, 0xDD);
        m1 = Avx512F.Shuffle4x128(d10, d11, 0x88);
        m9 = Avx512F.Shuffle4x128(d10, d11, 0xDD);
        m5 = Avx512F.Shuffle4x128(d12, d13, 0x88);
        m13 = Avx512F.Shuffle4x128(d12, d13, 0xDD);
        var d20 = Avx512F.Shuffle4x128(c02, c12, 0x88);
        var d21 = Avx512F.Shuffle4x128(c22, c32, 0x88);
        var d22 = Avx512F.Shuffle4x128(c02, c12, 0xDD);
        var d23 = Avx512F.Shuffle4x128(c22, c32, 0xDD);
        m2 = Avx512F.Shuffle4x128(d20, d21, 0x88);
        m10 = Avx512F.Shuffle4x128(d20, d21, 0xDD);
        m6 = Avx512F.Shuffle4x128(d22, d23, 0x88);
        m14 = Avx512F.Shuffle4x128(d22, d23, 0xDD);
        var d30 = Avx512F.Shuffle4x128(c03, c13, 0x88);
        var d31 = Avx512F.Shuffle4x128(c23, c33, 0x88);
        var d32 = Avx512F.Shuffle4x128(c03, c13, 0xDD);
        var d33 = Avx512F.Shuffle4x128(c23, c33, 0xDD);
        m3 = Avx512F.Shuffle4x128(d30, d31, 0x88);
        m11 = Avx512F.Shuffle4x128(d30, d31, 0xDD);
        m7 = Avx512F.Shuffle4x128(d32, d33, 0x88);
        m15 = Avx512F.Shuffle4x128(d32, d33, 0xDD);
    }
}
