using System.Diagnostics;
using System.Globalization;
using Vembar.Tests;

namespace Vembar.Cli.Tests.Stations;

/// <summary>A cable on which frames overtake each other, and some come twice.</summary>
public sealed class Scrambler : IDisposable
{
    // Between the cable (w0) and the card that the machine uses (e0): each fifth frame waits until eight later ones went by, and comes
    // twice each eleventh time.
    private const string Script = """
        import fcntl, os, select, signal, socket, struct, sys
        card = os.open('/dev/net/tun', os.O_RDWR)
        fcntl.ioctl(card, 0x400454ca, struct.pack('16sH22x', b'e0', 0x1002))
        cable = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(3))
        cable.bind(('w0', 0))
        cable.setsockopt(socket.SOL_SOCKET, 33, 8 << 20)
        late = twice = count = 0
        held = []
        def tell(*_):
            print(late, twice, flush=True)
            os._exit(0)
        signal.signal(signal.SIGTERM, tell)
        print('ready', flush=True)
        while True:
            able = select.select([cable, card], [], [], 0.02)[0]
            if card in able:
                cable.send(os.read(card, 65536))
            if cable in able:
                frame, sender = cable.recvfrom(65536)
                if sender[2] == 4:
                    continue
                count += 1
                if count % 5 == 0:
                    held.append((count, frame))
                    late += 1
                else:
                    os.write(card, frame)
                if count % 11 == 0:
                    os.write(card, frame)
                    twice += 1
            while held and (not able or held[0][0] + 8 <= count):
                os.write(card, held.pop(0)[1])
        """;

    // Frames whose sums the card is to fill in have none yet where they are taken from the cable.
    private const string FillIn = """
        import array, fcntl, socket, struct, sys
        s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        for card in sys.argv[1:]:
            for feature in (0x17, 0x1f, 0x24):
                value = array.array('B', struct.pack('II', feature, 0))
                try:
                    fcntl.ioctl(s, 0x8946, struct.pack('16sP', card.encode(), value.buffer_info()[0]))
                except OSError:
                    pass
        """;

    private readonly Process _process;

    private Scrambler(Process process) => _process = process;

    /// <summary>Puts it before a machine's card.</summary>
    /// <param name="network">The network.</param>
    /// <param name="number">The machine.</param>
    public static Scrambler Start(WaveNetwork network, int number)
    {
        var space = network.SpaceOf(number);
        Tools.Run("ip", ["netns", "exec", network.Space, "python3", "-c", FillIn, "br0",
            string.Create(CultureInfo.InvariantCulture, $"v{number}")]);
        foreach (var arguments in (string[])["link set e0 down", "addr flush dev e0", "link set e0 name w0", "link set w0 up promisc on",
            "tuntap add e0 mode tap"])
            Tools.Run("ip", ["-n", space, .. arguments.Split(' ')]);
        network.Address(number);
        var process = Process.Start(new ProcessStartInfo("ip", ["netns", "exec", space, "python3", "-c", Script])
        {
            RedirectStandardOutput = true,
        })!;
        process.StandardOutput.ReadLine();
        return new Scrambler(process);
    }

    /// <summary>Ends it.</summary>
    /// <returns>How many frames came late, and how many twice.</returns>
    public (int Late, int Twice) Stop()
    {
        Tools.Run("kill", [_process.Id.ToString(CultureInfo.InvariantCulture)]);
        var said = _process.StandardOutput.ReadToEnd().Trim().Split(' ');
        _process.WaitForExit();
        return (int.Parse(said[0], CultureInfo.InvariantCulture), int.Parse(said[1], CultureInfo.InvariantCulture));
    }

    public void Dispose()
    {
        if (!_process.HasExited)
            _process.Kill(entireProcessTree: true);
        _process.WaitForExit();
        _process.Dispose();
    }
}
