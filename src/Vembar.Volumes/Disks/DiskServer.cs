using System.Runtime.InteropServices;
using Vembar.Common;
using Vembar.Native;
using Vembar.Native.Helpers;

namespace Vembar.Volumes.Disks;

/// <summary>qemu-nbd(8), which hands out one disk image on a Unix socket: without root, without a device of the kernel, without a name on
/// the file system. It is given the whole graph of images as open files, and may read or write those alone.</summary>
internal sealed class DiskServer : IDisposable
{
    private readonly ImageChain _chain;
    private readonly string _path;
    private readonly DiskFormat _format;
    private readonly bool _write;
    private readonly SafeHandle _place;
    private readonly HelperProcess _process;
    private readonly NbdDevice _keeper;
    private readonly List<string> _said = [];
    private readonly Task _listening;

    /// <param name="chain">The image; closed with this.</param>
    /// <param name="path">Its path, for messages.</param>
    /// <param name="format">Its format.</param>
    /// <param name="write">Whether it is to be written.</param>
    /// <exception cref="VembarException">It cannot be opened, or qemu-nbd is not installed.</exception>
    public DiskServer(ImageChain chain, string path, DiskFormat format, bool write)
    {
        (_chain, _path, _format, _write) = (chain, path, format, write);
        const int ListeningNumber = 3;
        var doing = $"open the disk image '{path}'";
        var program = SystemTools.Find("qemu-nbd", "qemu-utils", doing);
        var files = new Dictionary<int, SafeHandle>();
        var graph = chain.Graph(write, files);
        var own = write ? chain.Own : [];
        try
        {
            (var socket, _place) = PrivateSocket.Listen();
            using (socket)
                _process = HelperProcess.Start(new HelperStart(program, [.. write ? Array.Empty<string>() : ["--read-only"], "--shared=0",
                    "json:" + graph])
                {
                    Files = new Dictionary<int, SafeHandle>(files) { [ListeningNumber] = socket },
                    ListensOnThree = true,
                    Confinement = new Confinement([.. files.Values.Except(own)], own),
                    // What it has in memory it writes before it ends.
                    EndsInOrder = write,
                    HasOwnEnvironment = true,
                    Environment = new Dictionary<string, string> { ["PATH"] = "/usr/bin:/bin", ["LC_ALL"] = "C" },
                    Folder = "/",
                });
        }
        catch (NativeException failure)
        {
            _place?.Dispose();
            throw VembarException.From(failure, doing, path) ?? throw VembarException.Environment("disk-server", failure.Message);
        }
        // Nobody is to wait for it to be heard.
        _listening = _process.EachLine(Hear);
        try
        {
            // It ends with its last connection.
            _keeper = FirstConnection();
        }
        catch
        {
            _process.Dispose();
            _place.Dispose();
            throw;
        }
    }

    /// <summary>The length of the disk in bytes.</summary>
    public long Length => _keeper.Length;

    /// <summary>Opens the disk once more.</summary>
    /// <exception cref="VembarException">The server is gone.</exception>
    public NbdDevice Connect()
    {
        const int Seconds = 30;
        return NbdDevice.Connect(PrivateSocket.PathOf(_place), _path, _write, TimeSpan.FromSeconds(Seconds));
    }

    private NbdDevice FirstConnection()
    {
        const int Milliseconds = 2000;
        try
        {
            return Connect();
        }
        catch (VembarException problem) when (problem.Code == "disk-server")
        {
            // It does not answer because it does not take the image, and ends; else it is as the problem says.
            if (_process.WaitForExit(Milliseconds))
            {
                _listening.Wait(Milliseconds);
                lock (_said)
                    throw Refused(string.Join('\n', _said));
            }
            _process.Kill();
            throw;
        }
    }

    private void Hear(string line)
    {
        const int Most = 50;
        lock (_said)
        {
            if (_said.Count < Most)
                _said.Add(line);
        }
    }

    private VembarException Refused(string said)
    {
        // What is wrong comes first; advice may follow.
        var line = said.Split('\n', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries).FirstOrDefault()
            ?? "it said nothing";
        const string Prefix = "qemu-nbd: ";
        line = line.StartsWith(Prefix, StringComparison.Ordinal) ? line[Prefix.Length..] : line;
        if (line.LastIndexOf("}': ", StringComparison.Ordinal) is >= 0 and var end)
            line = line[(end + "}': ".Length)..];
        bool Says(string words) => said.Contains(words, StringComparison.OrdinalIgnoreCase);
        if (Says("another process") || Says("\" lock"))
            return VembarException.Environment("disk-in-use", $"the disk image '{_path}' is in use by another program",
                "Shut the virtual machine down first.");
        if (_format == DiskFormat.Vhdx && (Says("replay") || Says("a log")))
            return VembarException.Input("disk-not-closed",
                $"the disk image '{_path}' was not closed properly: changes in its log are not in their places yet",
                "Let the program that wrote it open and close it once.");
        // The number of an open file says nothing to anyone.
        line = System.Text.RegularExpressions.Regex.Replace(line, "/proc/self/fd/[0-9]+", _path);
        return VembarException.Input("bad-disk-image",
            $"the disk image '{_path}' ({ImageLayer.DriverOf(_format)}) cannot be opened: {line}",
            "It may be cut short or damaged; take it from another copy.");
    }

    /// <summary>Ends the writing: the server has written all that it had, and said so.</summary>
    /// <exception cref="VembarException">It ended otherwise; what was written is not to be relied on.</exception>
    public void Finish()
    {
        const int Seconds = 600;
        if (!_write)
            return;
        _keeper.Dispose();
        if (!_process.WaitForExit(Seconds * 1000))
            throw VembarException.Environment("disk-server", $"'{_path}': qemu-nbd did not finish writing it within {Seconds} seconds",
                "Look whether the disk that it is on works, and run it again.");
        if (_process.ExitCode != 0)
            throw VembarException.Environment("disk-server", $"'{_path}': qemu-nbd ended before all was written ({_process.ExitCode})",
                "Run it again.");
        _chain.Finish();
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        const int Seconds = 10;
        _keeper.Dispose();
        _process.WaitForExit(Seconds * 1000);
        _process.Dispose();
        _place.Dispose();
        _chain.Dispose();
    }
}
