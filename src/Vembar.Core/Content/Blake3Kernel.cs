using System.Runtime.CompilerServices;
using System.Runtime.Intrinsics;
using System.Runtime.Intrinsics.X86;

namespace Vembar.Core.Content;

/// <summary>
/// The compression function of BLAKE3 over one or several independent inputs at once. The same code serves plain
/// integers and vectors of 4, 8 and 16 lanes; the widest that the processor has is chosen when the program runs.
/// </summary>
/// <remarks>Source: "BLAKE3: one function, fast everywhere" (O'Connor, Aumasson, Neves, Wilcox-O'Hearn, 2020), sections 2.2 to 2.5.</remarks>
internal static unsafe class Blake3Kernel
{
    public const int BlockLength = 64;
    public const int ChunkLength = 1024;
    public const uint ChunkStart = 1, ChunkEnd = 2, Parent = 4, Root = 8;

    public const uint Iv0 = 0x6A09E667, Iv1 = 0xBB67AE85, Iv2 = 0x3C6EF372, Iv3 = 0xA54FF53A;
    public const uint Iv4 = 0x510E527F, Iv5 = 0x9B05688C, Iv6 = 0x1F83D9AB, Iv7 = 0x5BE0CD19;

    /// <summary>The most lanes that the kernel takes at once on this processor: 16, 8, 4 or 1.</summary>
    public static int Lanes => Avx512F.IsSupported ? 16 : Avx2.IsSupported ? 8 : Vector128.IsHardwareAccelerated ? 4 : 1;

    /// <summary>Compresses <paramref name="lanes"/> inputs of the same number of whole blocks and writes a chaining value of 32 bytes for each.</summary>
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
    public static void Many(int width, byte** inputs, int blocks, ulong counter, uint step, uint flags, uint first, uint last, uint* output, int lanes)
    {
        switch (width)
        {
            case 16:
                Run<Vector512<uint>, Lanes16>(inputs, blocks, counter, step, flags, first, last, output, lanes);
                break;
            case 8:
                Run<Vector256<uint>, Lanes8>(inputs, blocks, counter, step, flags, first, last, output, lanes);
                break;
            case 4:
                Run<Vector128<uint>, Lanes4>(inputs, blocks, counter, step, flags, first, last, output, lanes);
                break;
            default:
                Run<uint, Lanes1>(inputs, blocks, counter, step, flags, first, last, output, lanes);
                break;
        }
    }

    private static void Run<TVector, TLanes>(byte** inputs, int blocks, ulong counter, uint step, uint flags, uint first, uint last, uint* output, int lanes)
        where TVector : struct where TLanes : struct, ILanes<TVector>
    {
        var state = new State<TVector>
        {
            H0 = TLanes.All(Iv0),
            H1 = TLanes.All(Iv1),
            H2 = TLanes.All(Iv2),
            H3 = TLanes.All(Iv3),
            H4 = TLanes.All(Iv4),
            H5 = TLanes.All(Iv5),
            H6 = TLanes.All(Iv6),
            H7 = TLanes.All(Iv7),
        };
        var low = stackalloc uint[16];
        var high = stackalloc uint[16];
        for (var i = 0; i < TLanes.Count; i++)
        {
            var own = counter + (ulong)i * step;
            low[i] = (uint)own;
            high[i] = (uint)(own >> 32);
        }
        var counterLow = TLanes.Load(low);
        var counterHigh = TLanes.Load(high);
        for (var block = 0; block < blocks; block++)
        {
            var blockFlags = flags | (block == 0 ? first : 0) | (block == blocks - 1 ? last : 0);
            Compress<TVector, TLanes>(ref state, inputs, block * BlockLength, counterLow, counterHigh, BlockLength, blockFlags);
        }
        TLanes.Store(in state, output, lanes);
    }

    /// <summary>Compresses one block of 1 to 64 bytes (padded with zeros by the caller) into a chaining value.</summary>
    public static void One(byte* block, uint length, ulong counter, uint flags, uint* chainingValue)
    {
        var state = new State<uint>
        {
            H0 = chainingValue[0],
            H1 = chainingValue[1],
            H2 = chainingValue[2],
            H3 = chainingValue[3],
            H4 = chainingValue[4],
            H5 = chainingValue[5],
            H6 = chainingValue[6],
            H7 = chainingValue[7],
        };
        Compress<uint, Lanes1>(ref state, &block, 0, (uint)counter, (uint)(counter >> 32), length, flags);
        Lanes1.Store(in state, chainingValue, 1);
    }

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    private static void G<TVector, TLanes>(ref TVector a, ref TVector b, ref TVector c, ref TVector d, TVector x, TVector y)
        where TVector : struct where TLanes : struct, ILanes<TVector>
    {
        a = TLanes.Add(TLanes.Add(a, b), x);
        d = TLanes.Right16(TLanes.Xor(d, a));
        c = TLanes.Add(c, d);
        b = TLanes.Right12(TLanes.Xor(b, c));
        a = TLanes.Add(TLanes.Add(a, b), y);
        d = TLanes.Right8(TLanes.Xor(d, a));
        c = TLanes.Add(c, d);
        b = TLanes.Right7(TLanes.Xor(b, c));
    }

    // The seven rounds are written out with the message permutation resolved: a looped schedule costs a fifth to a half of the speed.
    [SkipLocalsInit]
    private static void Compress<TVector, TLanes>(
        ref State<TVector> h, byte** inputs, int offset, TVector counterLow, TVector counterHigh, uint length, uint flags)
        where TVector : struct where TLanes : struct, ILanes<TVector>
    {
        TLanes.LoadMessage(inputs, offset,
            out var m0, out var m1, out var m2, out var m3, out var m4, out var m5, out var m6, out var m7,
            out var m8, out var m9, out var m10, out var m11, out var m12, out var m13, out var m14, out var m15);
        TVector v0 = h.H0, v1 = h.H1, v2 = h.H2, v3 = h.H3, v4 = h.H4, v5 = h.H5, v6 = h.H6, v7 = h.H7;
        TVector v8 = TLanes.All(Iv0), v9 = TLanes.All(Iv1), v10 = TLanes.All(Iv2), v11 = TLanes.All(Iv3);
        TVector v12 = counterLow, v13 = counterHigh, v14 = TLanes.All(length), v15 = TLanes.All(flags);
        G<TVector, TLanes>(ref v0, ref v4, ref v8, ref v12, m0, m1);
        G<TVector, TLanes>(ref v1, ref v5, ref v9, ref v13, m2, m3);
        G<TVector, TLanes>(ref v2, ref v6, ref v10, ref v14, m4, m5);
        G<TVector, TLanes>(ref v3, ref v7, ref v11, ref v15, m6, m7);
        G<TVector, TLanes>(ref v0, ref v5, ref v10, ref v15, m8, m9);
        G<TVector, TLanes>(ref v1, ref v6, ref v11, ref v12, m10, m11);
        G<TVector, TLanes>(ref v2, ref v7, ref v8, ref v13, m12, m13);
        G<TVector, TLanes>(ref v3, ref v4, ref v9, ref v14, m14, m15);
        G<TVector, TLanes>(ref v0, ref v4, ref v8, ref v12, m2, m6);
        G<TVector, TLanes>(ref v1, ref v5, ref v9, ref v13, m3, m10);
        G<TVector, TLanes>(ref v2, ref v6, ref v10, ref v14, m7, m0);
        G<TVector, TLanes>(ref v3, ref v7, ref v11, ref v15, m4, m13);
        G<TVector, TLanes>(ref v0, ref v5, ref v10, ref v15, m1, m11);
        G<TVector, TLanes>(ref v1, ref v6, ref v11, ref v12, m12, m5);
        G<TVector, TLanes>(ref v2, ref v7, ref v8, ref v13, m9, m14);
        G<TVector, TLanes>(ref v3, ref v4, ref v9, ref v14, m15, m8);
        G<TVector, TLanes>(ref v0, ref v4, ref v8, ref v12, m3, m4);
        G<TVector, TLanes>(ref v1, ref v5, ref v9, ref v13, m10, m12);
        G<TVector, TLanes>(ref v2, ref v6, ref v10, ref v14, m13, m2);
        G<TVector, TLanes>(ref v3, ref v7, ref v11, ref v15, m7, m14);
        G<TVector, TLanes>(ref v0, ref v5, ref v10, ref v15, m6, m5);
        G<TVector, TLanes>(ref v1, ref v6, ref v11, ref v12, m9, m0);
        G<TVector, TLanes>(ref v2, ref v7, ref v8, ref v13, m11, m15);
        G<TVector, TLanes>(ref v3, ref v4, ref v9, ref v14, m8, m1);
        G<TVector, TLanes>(ref v0, ref v4, ref v8, ref v12, m10, m7);
        G<TVector, TLanes>(ref v1, ref v5, ref v9, ref v13, m12, m9);
        G<TVector, TLanes>(ref v2, ref v6, ref v10, ref v14, m14, m3);
        G<TVector, TLanes>(ref v3, ref v7, ref v11, ref v15, m13, m15);
        G<TVector, TLanes>(ref v0, ref v5, ref v10, ref v15, m4, m0);
        G<TVector, TLanes>(ref v1, ref v6, ref v11, ref v12, m11, m2);
        G<TVector, TLanes>(ref v2, ref v7, ref v8, ref v13, m5, m8);
        G<TVector, TLanes>(ref v3, ref v4, ref v9, ref v14, m1, m6);
        G<TVector, TLanes>(ref v0, ref v4, ref v8, ref v12, m12, m13);
        G<TVector, TLanes>(ref v1, ref v5, ref v9, ref v13, m9, m11);
        G<TVector, TLanes>(ref v2, ref v6, ref v10, ref v14, m15, m10);
        G<TVector, TLanes>(ref v3, ref v7, ref v11, ref v15, m14, m8);
        G<TVector, TLanes>(ref v0, ref v5, ref v10, ref v15, m7, m2);
        G<TVector, TLanes>(ref v1, ref v6, ref v11, ref v12, m5, m3);
        G<TVector, TLanes>(ref v2, ref v7, ref v8, ref v13, m0, m1);
        G<TVector, TLanes>(ref v3, ref v4, ref v9, ref v14, m6, m4);
        G<TVector, TLanes>(ref v0, ref v4, ref v8, ref v12, m9, m14);
        G<TVector, TLanes>(ref v1, ref v5, ref v9, ref v13, m11, m5);
        G<TVector, TLanes>(ref v2, ref v6, ref v10, ref v14, m8, m12);
        G<TVector, TLanes>(ref v3, ref v7, ref v11, ref v15, m15, m1);
        G<TVector, TLanes>(ref v0, ref v5, ref v10, ref v15, m13, m3);
        G<TVector, TLanes>(ref v1, ref v6, ref v11, ref v12, m0, m10);
        G<TVector, TLanes>(ref v2, ref v7, ref v8, ref v13, m2, m6);
        G<TVector, TLanes>(ref v3, ref v4, ref v9, ref v14, m4, m7);
        G<TVector, TLanes>(ref v0, ref v4, ref v8, ref v12, m11, m15);
        G<TVector, TLanes>(ref v1, ref v5, ref v9, ref v13, m5, m0);
        G<TVector, TLanes>(ref v2, ref v6, ref v10, ref v14, m1, m9);
        G<TVector, TLanes>(ref v3, ref v7, ref v11, ref v15, m8, m6);
        G<TVector, TLanes>(ref v0, ref v5, ref v10, ref v15, m14, m10);
        G<TVector, TLanes>(ref v1, ref v6, ref v11, ref v12, m2, m12);
        G<TVector, TLanes>(ref v2, ref v7, ref v8, ref v13, m3, m4);
        G<TVector, TLanes>(ref v3, ref v4, ref v9, ref v14, m7, m13);
        h.H0 = TLanes.Xor(v0, v8);
        h.H1 = TLanes.Xor(v1, v9);
        h.H2 = TLanes.Xor(v2, v10);
        h.H3 = TLanes.Xor(v3, v11);
        h.H4 = TLanes.Xor(v4, v12);
        h.H5 = TLanes.Xor(v5, v13);
        h.H6 = TLanes.Xor(v6, v14);
        h.H7 = TLanes.Xor(v7, v15);
    }

    internal struct State<TVector> where TVector : struct
    {
        public TVector H0, H1, H2, H3, H4, H5, H6, H7;
    }

    internal interface ILanes<TVector> where TVector : struct
    {
        static abstract int Count { get; }
        static abstract TVector All(uint value);
        static abstract TVector Load(uint* values);
        static abstract TVector Add(TVector a, TVector b);
        static abstract TVector Xor(TVector a, TVector b);
        static abstract TVector Right16(TVector a);
        static abstract TVector Right12(TVector a);
        static abstract TVector Right8(TVector a);
        static abstract TVector Right7(TVector a);
        static abstract void Store(in State<TVector> state, uint* output, int lanes);
        static abstract void LoadMessage(byte** inputs, int offset,
            out TVector m0, out TVector m1, out TVector m2, out TVector m3, out TVector m4, out TVector m5, out TVector m6, out TVector m7,
            out TVector m8, out TVector m9, out TVector m10, out TVector m11, out TVector m12, out TVector m13, out TVector m14, out TVector m15);
    }

    private readonly struct Lanes1 : ILanes<uint>
    {
        public static int Count => 1;
        public static uint All(uint value) => value;
        public static uint Load(uint* values) => *values;
        public static uint Add(uint a, uint b) => a + b;
        public static uint Xor(uint a, uint b) => a ^ b;
        public static uint Right16(uint a) => uint.RotateRight(a, 16);
        public static uint Right12(uint a) => uint.RotateRight(a, 12);
        public static uint Right8(uint a) => uint.RotateRight(a, 8);
        public static uint Right7(uint a) => uint.RotateRight(a, 7);

        public static void Store(in State<uint> s, uint* output, int lanes)
        {
            output[0] = s.H0;
            output[1] = s.H1;
            output[2] = s.H2;
            output[3] = s.H3;
            output[4] = s.H4;
            output[5] = s.H5;
            output[6] = s.H6;
            output[7] = s.H7;
        }

        [MethodImpl(MethodImplOptions.AggressiveInlining)]
        public static void LoadMessage(byte** inputs, int offset,
            out uint m0, out uint m1, out uint m2, out uint m3, out uint m4, out uint m5, out uint m6, out uint m7,
            out uint m8, out uint m9, out uint m10, out uint m11, out uint m12, out uint m13, out uint m14, out uint m15)
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

        private static uint Word(byte* p) => System.Buffers.Binary.BinaryPrimitives.ReadUInt32LittleEndian(new ReadOnlySpan<byte>(p, 4));
    }

    private readonly struct Lanes4 : ILanes<Vector128<uint>>
    {
        public static int Count => 4;
        public static Vector128<uint> All(uint value) => Vector128.Create(value);
        public static Vector128<uint> Load(uint* values) => Vector128.Load(values);
        public static Vector128<uint> Add(Vector128<uint> a, Vector128<uint> b) => a + b;
        public static Vector128<uint> Xor(Vector128<uint> a, Vector128<uint> b) => a ^ b;
        public static Vector128<uint> Right16(Vector128<uint> a) => (a >>> 16) | (a << 16);
        public static Vector128<uint> Right12(Vector128<uint> a) => (a >>> 12) | (a << 20);
        public static Vector128<uint> Right8(Vector128<uint> a) => (a >>> 8) | (a << 24);
        public static Vector128<uint> Right7(Vector128<uint> a) => (a >>> 7) | (a << 25);

        public static void Store(in State<Vector128<uint>> s, uint* output, int lanes)
        {
            for (var i = 0; i < lanes; i++)
            {
                output[8 * i + 0] = s.H0[i];
                output[8 * i + 1] = s.H1[i];
                output[8 * i + 2] = s.H2[i];
                output[8 * i + 3] = s.H3[i];
                output[8 * i + 4] = s.H4[i];
                output[8 * i + 5] = s.H5[i];
                output[8 * i + 6] = s.H6[i];
                output[8 * i + 7] = s.H7[i];
            }
        }

        [MethodImpl(MethodImplOptions.AggressiveInlining)]
        public static void LoadMessage(byte** inputs, int offset,
            out Vector128<uint> m0, out Vector128<uint> m1, out Vector128<uint> m2, out Vector128<uint> m3,
            out Vector128<uint> m4, out Vector128<uint> m5, out Vector128<uint> m6, out Vector128<uint> m7,
            out Vector128<uint> m8, out Vector128<uint> m9, out Vector128<uint> m10, out Vector128<uint> m11,
            out Vector128<uint> m12, out Vector128<uint> m13, out Vector128<uint> m14, out Vector128<uint> m15)
        {
            uint* a = (uint*)(inputs[0] + offset), b = (uint*)(inputs[1] + offset), c = (uint*)(inputs[2] + offset), d = (uint*)(inputs[3] + offset);
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
    }

    private readonly struct Lanes8 : ILanes<Vector256<uint>>
    {
        public static int Count => 8;
        public static Vector256<uint> All(uint value) => Vector256.Create(value);
        public static Vector256<uint> Load(uint* values) => Vector256.Load(values);
        public static Vector256<uint> Add(Vector256<uint> a, Vector256<uint> b) => Avx2.Add(a, b);
        public static Vector256<uint> Xor(Vector256<uint> a, Vector256<uint> b) => Avx2.Xor(a, b);
        public static Vector256<uint> Right16(Vector256<uint> a) => Avx2.Shuffle(a.AsByte(), Vector256.Create(
            (byte)2, 3, 0, 1, 6, 7, 4, 5, 10, 11, 8, 9, 14, 15, 12, 13, 2, 3, 0, 1, 6, 7, 4, 5, 10, 11, 8, 9, 14, 15, 12, 13)).AsUInt32();
        public static Vector256<uint> Right12(Vector256<uint> a) => Avx2.Or(Avx2.ShiftRightLogical(a, 12), Avx2.ShiftLeftLogical(a, 20));
        public static Vector256<uint> Right8(Vector256<uint> a) => Avx2.Shuffle(a.AsByte(), Vector256.Create(
            (byte)1, 2, 3, 0, 5, 6, 7, 4, 9, 10, 11, 8, 13, 14, 15, 12, 1, 2, 3, 0, 5, 6, 7, 4, 9, 10, 11, 8, 13, 14, 15, 12)).AsUInt32();
        public static Vector256<uint> Right7(Vector256<uint> a) => Avx2.Or(Avx2.ShiftRightLogical(a, 7), Avx2.ShiftLeftLogical(a, 25));

        public static void Store(in State<Vector256<uint>> s, uint* output, int lanes)
        {
            for (var i = 0; i < lanes; i++)
            {
                output[8 * i + 0] = s.H0[i];
                output[8 * i + 1] = s.H1[i];
                output[8 * i + 2] = s.H2[i];
                output[8 * i + 3] = s.H3[i];
                output[8 * i + 4] = s.H4[i];
                output[8 * i + 5] = s.H5[i];
                output[8 * i + 6] = s.H6[i];
                output[8 * i + 7] = s.H7[i];
            }
        }

        [MethodImpl(MethodImplOptions.AggressiveInlining)]
        public static void LoadMessage(byte** inputs, int offset,
            out Vector256<uint> m0, out Vector256<uint> m1, out Vector256<uint> m2, out Vector256<uint> m3,
            out Vector256<uint> m4, out Vector256<uint> m5, out Vector256<uint> m6, out Vector256<uint> m7,
            out Vector256<uint> m8, out Vector256<uint> m9, out Vector256<uint> m10, out Vector256<uint> m11,
            out Vector256<uint> m12, out Vector256<uint> m13, out Vector256<uint> m14, out Vector256<uint> m15)
        {
            Transpose(inputs, offset, out m0, out m1, out m2, out m3, out m4, out m5, out m6, out m7);
            Transpose(inputs, offset + 32, out m8, out m9, out m10, out m11, out m12, out m13, out m14, out m15);
        }

        [MethodImpl(MethodImplOptions.AggressiveInlining)]
        private static void Transpose(byte** inputs, int offset,
            out Vector256<uint> m0, out Vector256<uint> m1, out Vector256<uint> m2, out Vector256<uint> m3,
            out Vector256<uint> m4, out Vector256<uint> m5, out Vector256<uint> m6, out Vector256<uint> m7)
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
    }

    private readonly struct Lanes16 : ILanes<Vector512<uint>>
    {
        public static int Count => 16;
        public static Vector512<uint> All(uint value) => Vector512.Create(value);
        public static Vector512<uint> Load(uint* values) => Vector512.Load(values);
        public static Vector512<uint> Add(Vector512<uint> a, Vector512<uint> b) => Avx512F.Add(a, b);
        public static Vector512<uint> Xor(Vector512<uint> a, Vector512<uint> b) => Avx512F.Xor(a, b);
        public static Vector512<uint> Right16(Vector512<uint> a) => Avx512F.RotateRight(a, 16);
        public static Vector512<uint> Right12(Vector512<uint> a) => Avx512F.RotateRight(a, 12);
        public static Vector512<uint> Right8(Vector512<uint> a) => Avx512F.RotateRight(a, 8);
        public static Vector512<uint> Right7(Vector512<uint> a) => Avx512F.RotateRight(a, 7);

        public static void Store(in State<Vector512<uint>> s, uint* output, int lanes)
        {
            for (var i = 0; i < lanes; i++)
            {
                output[8 * i + 0] = s.H0[i];
                output[8 * i + 1] = s.H1[i];
                output[8 * i + 2] = s.H2[i];
                output[8 * i + 3] = s.H3[i];
                output[8 * i + 4] = s.H4[i];
                output[8 * i + 5] = s.H5[i];
                output[8 * i + 6] = s.H6[i];
                output[8 * i + 7] = s.H7[i];
            }
        }

        [MethodImpl(MethodImplOptions.AggressiveInlining)]
        public static void LoadMessage(byte** inputs, int offset,
            out Vector512<uint> m0, out Vector512<uint> m1, out Vector512<uint> m2, out Vector512<uint> m3,
            out Vector512<uint> m4, out Vector512<uint> m5, out Vector512<uint> m6, out Vector512<uint> m7,
            out Vector512<uint> m8, out Vector512<uint> m9, out Vector512<uint> m10, out Vector512<uint> m11,
            out Vector512<uint> m12, out Vector512<uint> m13, out Vector512<uint> m14, out Vector512<uint> m15)
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
}
