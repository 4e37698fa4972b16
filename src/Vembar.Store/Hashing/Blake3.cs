using System.Buffers;
using System.Runtime.CompilerServices;
using System.Runtime.InteropServices;
using Vembar.Native;
using static Vembar.Store.Hashing.Blake3Kernel;

namespace Vembar.Store.Hashing;

/// <summary>
/// BLAKE3 with 32 bytes of output: in one go, or bit by bit as data arrives. Every instance belongs to one thread at a time.
/// </summary>
/// <remarks>Source: "BLAKE3: one function, fast everywhere" (O'Connor, Aumasson, Neves, Wilcox-O'Hearn, 2020), section 2.</remarks>
public sealed unsafe class Blake3
{
    // A whole subtree of 64 chunks is hashed at a time: wide enough for every lane, small enough for the cache.
    private const int UnitChunks = 64;
    private const int UnitLength = UnitChunks * ChunkLength;

    private readonly int _width;
    private readonly byte[] _buffer = new byte[UnitLength];
    private readonly uint[] _stack = new uint[8 * 48];
    private int _stackCount;
    private int _buffered;
    private ulong _units;

    /// <summary>Begins a hash.</summary>
    public Blake3() : this(Lanes)
    {
    }

    /// <summary>Begins a hash with a kernel of the given width (16, 8, 4 or 1 lanes), for tests.</summary>
    /// <exception cref="ArgumentOutOfRangeException">This processor has no such kernel.</exception>
    public Blake3(int lanes)
    {
        if (lanes is not (1 or 4 or 8 or 16) || lanes > Lanes)
            throw new ArgumentOutOfRangeException(nameof(lanes));
        _width = lanes;
    }

    /// <summary>The widest kernel this processor has: 16, 8, 4 or 1 lanes.</summary>
    public static int WidestLanes => Lanes;

    // Code compiled ahead of time has no 16 lanes of its own: where the processor does, they are in a library beside the program.
    private static int Lanes => Blake3Kernel.Lanes == 8 && WideKernel.IsThere ? 16 : Blake3Kernel.Lanes;

    private static void Compress(int width, byte** inputs, int blocks, ulong counter, uint step, uint flags, uint first, uint last,
        uint* output, int lanes)
    {
        // A wide kernel takes as long for a few lanes as for all.
        var narrowest = Math.Min(width, lanes switch { <= 4 => 4, <= 8 => 8, _ => 16 });
        if (lanes == 1 && width > 1)
            Single(inputs[0], blocks, counter, flags, first, last, output);
        else if (narrowest > Blake3Kernel.Lanes)
            WideKernel.Hash16(inputs, blocks, counter, step, flags, first, last, output, lanes);
        else
            Many(narrowest, inputs, blocks, counter, step, flags, first, last, output, lanes);
    }

    /// <summary>The hash of some bytes.</summary>
    public static ChunkId Hash(ReadOnlySpan<byte> data) => Hash(data, Lanes);

    /// <summary>The hash of some bytes, with a kernel of the given width.</summary>
    public static ChunkId Hash(ReadOnlySpan<byte> data, int lanes)
    {
        var value = stackalloc uint[8];
        if (data.Length <= ChunkLength)
        {
            LastChunk(data, 0, Root, value);
            return ChunkId.Read(new ReadOnlySpan<byte>(value, 32));
        }
        var chunks = (data.Length + ChunkLength - 1) / ChunkLength;
        var rented = ArrayPool<uint>.Shared.Rent(chunks * 8);
        fixed (uint* values = rented)
        {
            ChunkValues(data, 0, lanes, values);
            Reduce(values, chunks, lanes, root: true);
            var id = ChunkId.Read(new ReadOnlySpan<byte>(values, 32));
            ArrayPool<uint>.Shared.Return(rented);
            return id;
        }
    }

    /// <summary>Adds data to the hash.</summary>
    public void Append(ReadOnlySpan<byte> data)
    {
        while (!data.IsEmpty)
        {
            // The last unit stays back until more comes, for only the end knows whether it is the root.
            if (_buffered == UnitLength)
            {
                PushUnit(_buffer);
                _buffered = 0;
            }
            if (_buffered == 0)
            {
                while (data.Length > UnitLength)
                {
                    PushUnit(data[..UnitLength]);
                    data = data[UnitLength..];
                }
            }
            var take = Math.Min(UnitLength - _buffered, data.Length);
            data[..take].CopyTo(_buffer.AsSpan(_buffered));
            _buffered += take;
            data = data[take..];
        }
    }

    /// <summary>The hash of all that was appended; the instance is then ready for the next.</summary>
    public ChunkId Finish()
    {
        ChunkId id;
        if (_units == 0)
            id = Hash(_buffer.AsSpan(0, _buffered), _width);
        else
        {
            var chunks = Math.Max(1, (_buffered + ChunkLength - 1) / ChunkLength);
            var values = stackalloc uint[UnitChunks * 8];
            ChunkValues(_buffer.AsSpan(0, _buffered), _units * UnitChunks, _width, values);
            Reduce(values, chunks, _width, root: false);
            for (var level = _stackCount - 1; level >= 0; level--)
                Merge(_stack.AsSpan(level * 8, 8), values, level == 0 ? Root : 0);
            id = ChunkId.Read(new ReadOnlySpan<byte>(values, 32));
        }
        _units = 0;
        _stackCount = 0;
        _buffered = 0;
        return id;
    }

    private void PushUnit(ReadOnlySpan<byte> unit)
    {
        var values = stackalloc uint[UnitChunks * 8];
        ChunkValues(unit, _units * UnitChunks, _width, values);
        Reduce(values, UnitChunks, _width, root: false);
        _units++;
        // As many finished subtrees merge as the number of units has trailing zeros.
        for (var count = _units; (count & 1) == 0; count >>= 1)
        {
            _stackCount--;
            Merge(_stack.AsSpan(_stackCount * 8, 8), values, 0);
        }
        new ReadOnlySpan<uint>(values, 8).CopyTo(_stack.AsSpan(_stackCount * 8));
        _stackCount++;
    }

    // right := parent(left, right)
    private static void Merge(ReadOnlySpan<uint> left, uint* right, uint flags)
    {
        var block = stackalloc uint[16];
        left.CopyTo(new Span<uint>(block, 8));
        new ReadOnlySpan<uint>(right, 8).CopyTo(new Span<uint>(block + 8, 8));
        Begin(right);
        One((byte*)block, BlockLength, 0, Parent | flags, right);
    }

    private static void Begin(uint* value)
    {
        value[0] = Iv0;
        value[1] = Iv1;
        value[2] = Iv2;
        value[3] = Iv3;
        value[4] = Iv4;
        value[5] = Iv5;
        value[6] = Iv6;
        value[7] = Iv7;
    }

    // A chunk of 0 to 1024 bytes, whole or not.
    private static void LastChunk(ReadOnlySpan<byte> data, ulong counter, uint flags, uint* value)
    {
        Begin(value);
        var flag = ChunkStart;
        fixed (byte* start = &MemoryMarshal.GetReference(data))
        {
            var at = start;
            var left = data.Length;
            for (; left > BlockLength; left -= BlockLength, at += BlockLength)
            {
                One(at, BlockLength, counter, flag, value);
                flag = 0;
            }
            var block = stackalloc byte[BlockLength];
            new Span<byte>(block, BlockLength).Clear();
            new ReadOnlySpan<byte>(at, left).CopyTo(new Span<byte>(block, BlockLength));
            One(block, (uint)left, counter, flag | ChunkEnd | flags, value);
        }
    }

    [SkipLocalsInit]
    private static void ChunkValues(ReadOnlySpan<byte> data, ulong counter, int width, uint* values)
    {
        const int ChunkBlocks = ChunkLength / BlockLength;
        var inputs = stackalloc byte*[16];
        var whole = data.Length / ChunkLength;
        fixed (byte* start = &MemoryMarshal.GetReference(data))
        {
            for (var chunk = 0; chunk < whole; chunk += width)
            {
                var lanes = Math.Min(width, whole - chunk);
                for (var i = 0; i < width; i++)
                    inputs[i] = start + (long)(chunk + Math.Min(i, lanes - 1)) * ChunkLength;
                Compress(width, inputs, ChunkBlocks, counter + (ulong)chunk, 1, 0, ChunkStart, ChunkEnd, values + chunk * 8, lanes);
            }
        }
        if (data.Length % ChunkLength != 0 || data.IsEmpty)
            LastChunk(data[(whole * ChunkLength)..], counter + (ulong)whole, 0, values + whole * 8);
    }

    // Pairs level by level; an odd one at the end goes up as it is. That is BLAKE3's tree, whose left side is always full.
    private static void Reduce(uint* values, int count, int width, bool root)
    {
        var inputs = stackalloc byte*[16];
        while (count > 1)
        {
            var flags = Parent | (root && count == 2 ? Root : 0);
            var pairs = count / 2;
            for (var pair = 0; pair < pairs; pair += width)
            {
                // The output never reaches an input not yet read: lane i writes at half the place it reads.
                var lanes = Math.Min(width, pairs - pair);
                for (var i = 0; i < width; i++)
                    inputs[i] = (byte*)(values + (pair + Math.Min(i, lanes - 1)) * 16);
                Compress(width, inputs, 1, 0, 0, flags, 0, 0, values + pair * 8, lanes);
            }
            if (count % 2 != 0)
                new ReadOnlySpan<uint>(values + (count - 1) * 8, 8).CopyTo(new Span<uint>(values + pairs * 8, 8));
            count = pairs + count % 2;
        }
    }
}
