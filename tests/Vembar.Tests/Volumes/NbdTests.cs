using System.Buffers.Binary;
using System.Net.Sockets;
using Vembar.Common;
using Vembar.Native;
using Vembar.Volumes.Disks;
using Xunit;

namespace Vembar.Tests;

/// <summary>The NBD client, with qemu-nbd as everybody has it, and with servers that misbehave.</summary>
public class NbdTests
{
    // Serves one connection as the protocol's document says, but for what a test changes.
    private sealed class Server : IDisposable
    {
        private readonly Socket _listening = new(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
        private readonly Task _task;

        public Server(string path, Action<Socket> talk)
        {
            _listening.Bind(new UnixDomainSocketEndPoint(path));
            _listening.Listen();
            _task = Task.Run(() =>
            {
                using var client = _listening.Accept();
                try
                {
                    talk(client);
                }
                catch (SocketException)
                {
                    // The client has gone.
                }
            });
        }

        public void Dispose()
        {
            _listening.Dispose();
            _task.Wait(TimeSpan.FromSeconds(5));
        }
    }

    private static byte[] Take(Socket socket, int count)
    {
        var bytes = new byte[count];
        for (var at = 0; at < count;)
        {
            var got = socket.Receive(bytes.AsSpan(at));
            if (got == 0)
                throw new SocketException(104);
            at += got;
        }
        return bytes;
    }

    private static byte[] Number(long value, int length)
    {
        var bytes = new byte[8];
        BinaryPrimitives.WriteInt64BigEndian(bytes, value);
        return bytes[^length..];
    }

    private static readonly byte[] s_greeting = [.. "NBDMAGIC"u8, .. "IHAVEOPT"u8, 0, 3];

    private static byte[] OptionReply(uint kind, params byte[] data) =>
        [.. Number(0x3E889045565A9, 8), .. Number(7, 4), .. Number(kind, 4), .. Number(data.Length, 4), .. data];

    // Up to the point where requests begin.
    private static void Shake(Socket socket, long length, ushort flags)
    {
        socket.Send(s_greeting);
        Take(socket, 26);
        // Something that was not asked for comes first: it is to be passed over.
        socket.Send(OptionReply(3, [0, 3, .. Number(1, 4), .. Number(4096, 4), .. Number(1 << 20, 4)]));
        socket.Send(OptionReply(3, [0, 0, .. Number(length, 8), .. Number(flags, 2)]));
        socket.Send(OptionReply(1));
    }

    private static (ushort Command, byte[] Cookie, long Offset, int Length) Request(Socket socket)
    {
        var head = Take(socket, 28);
        Assert.Equal(0x25609513u, BinaryPrimitives.ReadUInt32BigEndian(head));
        return (BinaryPrimitives.ReadUInt16BigEndian(head.AsSpan(6)), head[8..16], BinaryPrimitives.ReadInt64BigEndian(head.AsSpan(16)),
            BinaryPrimitives.ReadInt32BigEndian(head.AsSpan(24)));
    }

    private static byte[] Reply(byte[] cookie, int error, params byte[] data) =>
        [.. Number(0x67446698, 4), .. Number(error, 4), .. cookie, .. data];

    [Fact]
    public void ReadsWritesAndFlushesAreAsked()
    {
        using var folder = new TempFolder();
        var disk = new byte[100_000];
        new Random(3).NextBytes(disk);
        var asked = new List<ushort>();
        using (new Server(folder.At("s"), socket =>
        {
            Shake(socket, disk.Length, 1);
            while (true)
            {
                var (command, cookie, offset, length) = Request(socket);
                asked.Add(command);
                if (command == 2)
                    return;
                if (command == 0)
                    socket.Send(Reply(cookie, 0, disk[(int)offset..((int)offset + length)]));
                else
                {
                    if (command == 1)
                        Take(socket, length).CopyTo(disk, (int)offset);
                    socket.Send(Reply(cookie, 0));
                }
            }
        }))
        {
            using var device = NbdDevice.Connect(folder.At("s"), "disk", write: true);
            Assert.Equal((disk.Length, true), (device.Length, device.MayWrite));
            var bytes = new byte[5000];
            Assert.Equal(5000, device.Read(bytes, 1234));
            Assert.Equal(disk[1234..6234], bytes);
            // At the end fewer, beyond it none.
            Assert.Equal(100, device.Read(bytes, disk.Length - 100));
            Assert.Equal(0, device.Read(bytes, disk.Length));
            device.Write([9, 8, 7], 50);
            device.Flush();
        }
        Assert.Equal([9, 8, 7], disk[50..53]);
        Assert.Equal([0, 0, 1, 3, 2], asked);
    }

    [Fact]
    public void AnErrorOfTheServerIsAnErrorOfTheRead()
    {
        using var folder = new TempFolder();
        using var server = new Server(folder.At("s"), socket =>
        {
            Shake(socket, 1 << 20, 1);
            socket.Send(Reply(Request(socket).Cookie, 5));
            socket.Send(Reply(Request(socket).Cookie, 0, new byte[16]));
        });
        using var device = NbdDevice.Connect(folder.At("s"), "disk.vhdx", write: false);
        var problem = Assert.Throws<NativeException>(() => device.Read(new byte[16], 4096));
        Assert.Equal(Errno.InputOutput, problem.Errno);
        Assert.Contains("disk.vhdx, byte 4096", problem.Message, StringComparison.Ordinal);
        // And the connection is of use still.
        Assert.Equal(16, device.Read(new byte[16], 0));
    }

    public static TheoryData<string> Misbehaviours =>
        ["other greeting", "no fixed style", "closes at once", "refuses", "endless reply", "no length", "negative length", "other reply"];

    [Theory]
    [MemberData(nameof(Misbehaviours))]
    public void AServerThatMisbehavesIsToldAndDoesNotHang(string how)
    {
        using var folder = new TempFolder();
        using var server = new Server(folder.At("s"), socket =>
        {
            switch (how)
            {
                case "other greeting":
                    socket.Send("SSH-2.0-something else\r\n"u8);
                    return;
                case "no fixed style":
                    socket.Send([.. s_greeting[..16], 0, 0]);
                    return;
                case "closes at once":
                    return;
            }
            socket.Send(s_greeting);
            Take(socket, 26);
            socket.Send(how switch
            {
                "refuses" => OptionReply(0x80000006, "no such export"u8.ToArray()),
                "endless reply" => [.. Number(0x3E889045565A9, 8), .. Number(7, 4), .. Number(3, 4), .. Number(0x7FFFFFFF, 4)],
                "negative length" => OptionReply(3, [0, 0, .. Number(-1, 8), 0, 1]),
                "other reply" => new byte[20],
                _ => OptionReply(1),
            });
        });
        var problem = Assert.Throws<VembarException>(() => NbdDevice.Connect(folder.At("s"), "disk", write: false));
        Assert.Equal("disk-server", problem.Code);
    }

    [Fact]
    public void AServerThatGoesAwayOrAnswersOutOfTurnIsAnError()
    {
        using var folder = new TempFolder();
        using (new Server(folder.At("s"), socket =>
        {
            Shake(socket, 1 << 20, 1);
            var (_, cookie, _, _) = Request(socket);
            cookie[7] ^= 1;
            socket.Send(Reply(cookie, 0, new byte[512]));
        }))
        {
            using var device = NbdDevice.Connect(folder.At("s"), "disk", write: false);
            Assert.Throws<VembarException>(() => device.Read(new byte[512], 0));
        }
        using (new Server(folder.At("t"), socket =>
        {
            Shake(socket, 1 << 20, 1);
            socket.Send(Reply(Request(socket).Cookie, 0, new byte[100]));
        }))
        {
            using var device = NbdDevice.Connect(folder.At("t"), "disk", write: false);
            Assert.Throws<VembarException>(() => device.Read(new byte[512], 0));
        }
        // One that hands the disk out read-only is not written to.
        using var third = new Server(folder.At("u"), socket => Shake(socket, 1 << 20, 3));
        Assert.Equal("read-only", Assert.Throws<VembarException>(() => NbdDevice.Connect(folder.At("u"), "disk", write: true)).Code);
    }

    [Theory]
    [InlineData(DiskFormat.Raw)]
    [InlineData(DiskFormat.Vhd)]
    [InlineData(DiskFormat.Vhdx)]
    [InlineData(DiskFormat.Qcow2)]
    [InlineData(DiskFormat.Vmdk)]
    public void ImagesOfEveryKindAreMadeWrittenAndReadByOthers(DiskFormat format)
    {
        using var folder = new TempFolder();
        var path = folder.At("disk");
        var noise = new byte[3_000_000];
        new Random(7).NextBytes(noise);
        long length;
        using (var image = DiskImage.Create(path, format, 64 << 20))
        {
            length = image.Length;
            // A VHD comes in cylinders, so it may be a little longer.
            Assert.InRange(length, 64 << 20, 65 << 20);
            using var device = image.OpenDevice();
            device.Write(noise, 1_000_001);
            device.Write([1, 2, 3], length - 3);
            device.Flush();
        }
        Assert.Equal(format, DiskImage.FormatOf(path));
        Tools.Run("qemu-img", ["convert", "-f", format switch { DiskFormat.Vhd => "vpc", _ => format.ToString().ToLowerInvariant() }, "-O",
            "raw", path, folder.At("raw")]);
        var raw = File.ReadAllBytes(folder.At("raw"));
        Assert.True(raw.AsSpan(1_000_001, noise.Length).SequenceEqual(noise));
        Assert.Equal([1, 2, 3], raw[^3..]);
        using var again = DiskImage.Open(path);
        using var reading = again.OpenDevice();
        var read = new byte[noise.Length];
        Assert.Equal(read.Length, reading.Read(read, 1_000_001));
        Assert.True(read.AsSpan().SequenceEqual(noise));
        Assert.ThrowsAny<Exception>(() => reading.Write([1], 0));
    }

    [Fact]
    public void AnyBeginningOfAVolumeIsRecognisedOrNot()
    {
        var random = new Random(5);
        byte[][] marks =
            [.. "NTFS    "u8.ToArray() is var ntfs
            ? new[] { ntfs, "-FVE-FS-"u8.ToArray(), "EXFAT   "u8.ToArray(), "FAT32   "u8.ToArray(), "FAT16   "u8.ToArray() } : []];
        for (var round = 0; round < 500; round++)
        {
            var bytes = new byte[1 << 16];
            random.NextBytes(bytes.AsSpan(0, 4096));
            var mark = marks[round % marks.Length];
            mark.CopyTo(bytes, round % marks.Length switch { 3 => 82, 4 => 54, _ => 3 });
            bytes[510] = 0x55;
            bytes[511] = 0xAA;
            var found = FileSystem.Probe(new MemoryDevice(bytes));
            Assert.True(found.Kind.Length > 0);
            Assert.True(found.Used is null or >= 0);
        }
        Assert.Equal("unknown", FileSystem.Probe(new MemoryDevice(new byte[100])).Kind);
    }
}
