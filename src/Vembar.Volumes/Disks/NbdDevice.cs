using System.Buffers.Binary;
using System.Net.Sockets;
using Vembar.Common;
using Vembar.Native;

namespace Vembar.Volumes.Disks;

/// <summary>
/// A disk that a server on a Unix socket hands out by the NBD protocol (github.com/NetworkBlockDevice/nbd, doc/proto.md):
/// the fixed newstyle handshake, GO, then simple requests one after the other.
/// </summary>
public sealed class NbdDevice : IBlockDevice
{
    private const ulong Greeting = 0x4E42444D41474943, OptionMagic = 0x49484156454F5054, ReplyMagic = 0x3E889045565A9;
    private const uint RequestMagic = 0x25609513, SimpleReplyMagic = 0x67446698;
    private const uint OptionGo = 7, ReplyAck = 1, ReplyInfo = 3, ErrorBit = 0x80000000;
    private const ushort FlagFixed = 1, FlagReadOnly = 2, InfoExport = 0;
    private const ushort CommandRead = 0, CommandWrite = 1, CommandDisconnect = 2, CommandFlush = 3;
    // More than this at once servers need not take.
    private const int MostAtOnce = 4 << 20;
    private const uint LongestReply = 1 << 16;

    // A disk that sleeps wakes within seconds; to write, and above all to make durable what was written, may take very long on slow ones.
    // A server that ends is noticed at once.
    private const int ReadSeconds = 120, WriteSeconds = 900, FlushSeconds = 3600;

    private readonly Socket _socket;
    private ulong _cookie;
    private bool _isClosed;

    private NbdDevice(Socket socket, string displayName)
    {
        _socket = socket;
        DisplayName = displayName;
    }

    /// <summary>Connects.</summary>
    /// <param name="socket">The path of the socket.</param>
    /// <param name="displayName">What the disk is, for messages.</param>
    /// <param name="write">Whether it is to be written.</param>
    /// <param name="patience">How long the server may take for each step of the greeting; null for as long as for reading.</param>
    /// <exception cref="VembarException">The server is not there, speaks otherwise, or allows no writing.</exception>
    public static NbdDevice Connect(string socket, string displayName, bool write, TimeSpan? patience = null)
    {
        var connection = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified)
        {
            ReceiveTimeout = (int)(patience?.TotalMilliseconds ?? ReadSeconds * 1000),
            SendTimeout = WriteSeconds * 1000,
        };
        try
        {
            connection.Connect(new UnixDomainSocketEndPoint(socket));
            var device = new NbdDevice(connection, displayName);
            device.Handshake();
            if (write && !device.MayWrite)
                throw VembarException.Environment("read-only", $"'{displayName}' cannot be written: its server hands it out read-only");
            return device;
        }
        catch (Exception failure)
        {
            connection.Dispose();
            if (failure is SocketException or IOException)
                throw new VembarException(ErrorKind.Environment, VembarException.DiskServer,
                    $"'{displayName}': the program that serves the disk image (qemu-nbd) did not answer as it should: {failure.Message}",
                    "", null, failure);
            throw;
        }
    }

    /// <inheritdoc/>
    public string DisplayName { get; }

    /// <inheritdoc/>
    public long Length { get; private set; }

    /// <inheritdoc/>
    public bool MayWrite { get; private set; }

    private void Handshake()
    {
        Span<byte> hello = stackalloc byte[18];
        Receive(hello);
        if (BinaryPrimitives.ReadUInt64BigEndian(hello) != Greeting || BinaryPrimitives.ReadUInt64BigEndian(hello[8..]) != OptionMagic
            || (BinaryPrimitives.ReadUInt16BigEndian(hello[16..]) & FlagFixed) == 0)
            throw new IOException("it does not greet as an NBD server");
        // Our flags (fixed newstyle), then: option GO, an export without a name, no information asked for.
        Span<byte> ask = stackalloc byte[4 + 16 + 6];
        ask.Clear();
        BinaryPrimitives.WriteUInt32BigEndian(ask, FlagFixed);
        BinaryPrimitives.WriteUInt64BigEndian(ask[4..], OptionMagic);
        BinaryPrimitives.WriteUInt32BigEndian(ask[12..], OptionGo);
        BinaryPrimitives.WriteUInt32BigEndian(ask[16..], 6);
        Send(ask);
        Span<byte> head = stackalloc byte[20];
        while (true)
        {
            Receive(head);
            var kind = BinaryPrimitives.ReadUInt32BigEndian(head[12..]);
            var length = BinaryPrimitives.ReadUInt32BigEndian(head[16..]);
            if (BinaryPrimitives.ReadUInt64BigEndian(head) != ReplyMagic || length > LongestReply)
                throw new IOException("it answers otherwise than NBD does");
            var data = new byte[length];
            Receive(data);
            if ((kind & ErrorBit) != 0)
                throw new IOException($"it refuses the disk ({kind & ~ErrorBit}): {System.Text.Encoding.UTF8.GetString(data)}");
            if (kind == ReplyAck)
                break;
            if (kind != ReplyInfo || data.Length < 12 || BinaryPrimitives.ReadUInt16BigEndian(data) != InfoExport)
                continue;
            Length = BinaryPrimitives.ReadInt64BigEndian(data.AsSpan(2));
            MayWrite = (BinaryPrimitives.ReadUInt16BigEndian(data.AsSpan(10)) & FlagReadOnly) == 0;
        }
        if (Length <= 0)
            throw new IOException("it names no length that a disk can have");
    }

    private void Receive(Span<byte> to)
    {
        while (to.Length > 0)
        {
            var got = _socket.Receive(to);
            if (got == 0)
                throw new IOException("it closed the connection");
            to = to[got..];
        }
    }

    private void Send(ReadOnlySpan<byte> from)
    {
        while (from.Length > 0)
            from = from[_socket.Send(from)..];
    }

    private void Request(ushort command, long offset, int length, ReadOnlySpan<byte> payload, Span<byte> answer)
    {
        try
        {
            _socket.ReceiveTimeout = 1000 * command switch { CommandRead => ReadSeconds, CommandWrite => WriteSeconds, _ => FlushSeconds };
            Span<byte> request = stackalloc byte[28];
            BinaryPrimitives.WriteUInt32BigEndian(request, RequestMagic);
            BinaryPrimitives.WriteUInt16BigEndian(request[4..], 0);
            BinaryPrimitives.WriteUInt16BigEndian(request[6..], command);
            BinaryPrimitives.WriteUInt64BigEndian(request[8..], ++_cookie);
            BinaryPrimitives.WriteInt64BigEndian(request[16..], offset);
            BinaryPrimitives.WriteInt32BigEndian(request[24..], length);
            Send(request);
            Send(payload);
            Span<byte> reply = stackalloc byte[16];
            Receive(reply);
            if (BinaryPrimitives.ReadUInt32BigEndian(reply) != SimpleReplyMagic
                || BinaryPrimitives.ReadUInt64BigEndian(reply[8..]) != _cookie)
                throw new IOException("an answer of the disk's server is not one of NBD");
            if (BinaryPrimitives.ReadInt32BigEndian(reply[4..]) is not 0 and var error)
                throw new NativeException(command == CommandRead ? "read" : "write", $"{DisplayName}, byte {offset}", error);
            Receive(answer);
        }
        catch (Exception failure) when (failure is SocketException or IOException and not NativeException)
        {
            // No fault of the disk: nothing can be said of what is on it.
            throw new VembarException(ErrorKind.Environment, VembarException.DiskServer,
                $"'{DisplayName}': the program that serves the disk image (qemu-nbd) ended, or does not answer: {failure.Message}",
                "Run it again; where that repeats, see whether the machine has memory left.", null, failure);
        }
    }

    /// <inheritdoc/>
    public int Read(Span<byte> to, long offset)
    {
        if (offset >= Length)
            return 0;
        to = to[..(int)Math.Min(to.Length, Length - offset)];
        for (var at = 0; at < to.Length; at += MostAtOnce)
        {
            var part = to[at..Math.Min(at + MostAtOnce, to.Length)];
            Request(CommandRead, offset + at, part.Length, default, part);
        }
        return to.Length;
    }

    /// <inheritdoc/>
    public void Write(ReadOnlySpan<byte> from, long offset)
    {
        for (var at = 0; at < from.Length; at += MostAtOnce)
        {
            var part = from[at..Math.Min(at + MostAtOnce, from.Length)];
            Request(CommandWrite, offset + at, part.Length, part, default);
        }
    }

    /// <inheritdoc/>
    public void Flush() => Request(CommandFlush, 0, 0, default, default);

    /// <inheritdoc/>
    public void Dispose()
    {
        if (Interlocked.Exchange(ref _isClosed, true))
            return;
        try
        {
            Span<byte> request = stackalloc byte[28];
            request.Clear();
            BinaryPrimitives.WriteUInt32BigEndian(request, RequestMagic);
            BinaryPrimitives.WriteUInt16BigEndian(request[6..], CommandDisconnect);
            Send(request);
        }
        catch (SocketException)
        {
            // It is gone already.
        }
        _socket.Dispose();
    }
}
