using System.Globalization;
using System.Runtime.InteropServices;
using Microsoft.Win32.SafeHandles;

namespace Vembar.Native.Helpers;

/// <summary>Another program that does a part of the work, and ends when this one does, however this one ends. All that this program starts
/// is started here.</summary>
public sealed class HelperProcess : IDisposable
{
    private const int CloseOnExec = 0x80000, Killed = 9, Asked = 15, SignalBits = 0x7F, MoreFiles = 256;
    private const string DeathGuard = "/usr/bin/setpriv", Shell = "/bin/sh";
    private readonly Thread _thread;
    private readonly SpawnPlan _plan;
    private readonly Lock _gate = new();
    private bool _isDisposed;
    private int _lastStatus = -1;

    private unsafe HelperProcess(HelperStart start)
    {
        DemandRunnable(start.Program);
        EndIgnoring();
        var (inputRead, inputWrite) = Pipe();
        var (outputRead, outputWrite) = Pipe();
        var (errorRead, errorWrite) = Pipe();
        var (toldRead, toldWrite) = Pipe();
        Input = new FileStream(inputWrite, FileAccess.Write, 0);
        Output = new StreamReader(new FileStream(outputRead, FileAccess.Read, 0));
        Error = new StreamReader(new FileStream(errorRead, FileAccess.Read, 0));
        // Small systems have neither; what is confined, or listens, cannot do without.
        var guard = File.Exists(DeathGuard) && File.Exists(Shell);
        if (!guard && (start.ListensOnThree || start.Confinement is not null))
            throw new NativeException("start the program", DeathGuard, Errno.NotFound);
        using (toldRead)
        using (toldWrite)
        {
            try
            {
                using (inputRead)
                using (outputWrite)
                using (errorWrite)
                    _plan = new SpawnPlan(start, guard ? Guarded(start) : [start.Program, .. start.Arguments],
                        [inputRead, outputWrite, errorWrite], toldWrite);
                const int StackLength = 256 << 10;
                _thread = new Thread(() => HelperThread.Run(_plan.State), StackLength) { IsBackground = true, Name = "helper program" };
                _thread.Start();
                Span<byte> told = stackalloc byte[1];
                RandomAccessRead(toldRead, told);
                _plan.CloseCopies();
                if (_plan.State->Error is not 0 and var error)
                    throw new NativeException("start the program", start.Program, (int)error);
                Id = (int)_plan.State->Process;
                if (guard)
                    Release(start);
                if (!start.HasInput)
                    Input.Dispose();
            }
            catch
            {
                Input.Dispose();
                Output.Dispose();
                Error.Dispose();
                throw;
            }
        }
    }

    /// <summary>Starts a program.</summary>
    /// <exception cref="NativeException">It cannot be started.</exception>
    public static HelperProcess Start(HelperStart start) => new(start);

    /// <summary>The path of a program by its name.</summary>
    /// <returns>Null when it is not installed.</returns>
    public static string? Find(string name) => name.Contains('/', StringComparison.Ordinal) ? File.Exists(name) ? Path.GetFullPath(name)
        : null
        // Programs that format disks lie where an ordinary user's path does not lead.
        : (Environment.GetEnvironmentVariable("PATH") ?? "").Split(':').Concat(["/usr/sbin", "/sbin", "/usr/bin"])
            .Select(folder => Path.Combine(folder, name)).FirstOrDefault(File.Exists);

    private static unsafe void DemandRunnable(string program)
    {
        const int Execute = 1;
        fixed (byte* path = PosixName.Encode(program))
        {
            if (SpawnCalls.access(path, Execute) != 0)
                throw new NativeException("start the program", program, Marshal.GetLastPInvokeError());
        }
    }

    /// <summary>What it reads, where it was started with an input.</summary>
    public Stream Input { get; }

    /// <summary>What it prints.</summary>
    public StreamReader Output { get; }

    /// <summary>What it says on standard error.</summary>
    public StreamReader Error { get; }

    /// <summary>The number of its process.</summary>
    public int Id { get; private set; }

    /// <summary>Whether it has ended.</summary>
    public bool HasExited => WaitForExit(0);

    /// <summary>How it ended: its exit code, or 128 and the number of the signal that ended it.</summary>
    public int ExitCode
    {
        get
        {
            WaitForExit();
            var status = Status();
            return status < 0 ? status : (status & SignalBits) == 0 ? status >> 8 & 0xFF : 128 + (status & SignalBits);
        }
    }

    private unsafe int Status()
    {
        lock (_gate)
            return _isDisposed ? _lastStatus : (int)_plan.State->Status;
    }

    /// <summary>Waits until it has ended.</summary>
    public void WaitForExit() => _thread.Join();

    /// <summary>Waits until it has ended, for a time.</summary>
    /// <param name="milliseconds">How long at most.</param>
    /// <returns>Whether it has ended.</returns>
    public bool WaitForExit(int milliseconds) => _thread.Join(milliseconds);

    /// <summary>Waits until it has ended.</summary>
    /// <exception cref="OperationCanceledException">The waiting was ended.</exception>
    public async Task WaitForExitAsync(CancellationToken cancellation)
    {
        const int LongestPause = 50;
        for (var pause = 1; !HasExited; pause = Math.Min(LongestPause, pause * 2))
            await Task.Delay(pause, cancellation).ConfigureAwait(false);
    }

    /// <summary>Ends it at once, with all that it started and that did not leave its session.</summary>
    public void Kill() => Signal(Killed);

    /// <summary>Asks it to end.</summary>
    public void Ask() => Signal(Asked);

    /// <summary>Gives every line that it prints or says on standard error to somebody, until it has ended.</summary>
    /// <param name="tell">Who gets them, from one thread at a time for each of both.</param>
    public Task EachLine(Action<string> tell)
    {
        void Read(StreamReader from)
        {
            try
            {
                while (from.ReadLine() is { } line)
                    tell(line);
            }
            catch (Exception failure) when (failure is ObjectDisposedException or IOException)
            {
                // It was closed meanwhile.
            }
        }
        Task Begin(StreamReader from) =>
            Task.Factory.StartNew(() => Read(from), CancellationToken.None, TaskCreationOptions.LongRunning, TaskScheduler.Default);
        return Task.WhenAll(Begin(Output), Begin(Error));
    }

    private unsafe void Signal(int signal)
    {
        const nint SignalProcess = 424;
        lock (_gate)
        {
            if (_isDisposed || HasExited)
                return;
            // Its number may be another's by now; its descriptor is not.
            if (_plan.State->Handle >= 0)
                _ = SpawnCalls.SystemCall(SignalProcess, _plan.State->Handle, signal, 0, 0);
            else
                _ = SpawnCalls.kill(Id, signal);
            if (signal == Killed)
                _ = SpawnCalls.kill(-Id, signal);
        }
    }

    // The kernel ends the program with this one: that is armed once "up" is said. If this one ended before, nobody says "go".
    private static string[] Guarded(HelperStart start)
    {
        var limits = start.Confinement is null ? "" : string.Create(CultureInfo.InvariantCulture,
            $"ulimit -v {Confinement.MostMemory}; ulimit -c 0; ulimit -n {start.Files.Keys.DefaultIfEmpty(0).Max() + MoreFiles}; ");
        var script = "echo up; read -r go || exit 1; " + limits + (start.HasInput ? "" : "exec </dev/null; ")
            + (start.ListensOnThree ? "export LISTEN_FDS=1 LISTEN_PID=$$; " : "") + "exec \"$@\"";
        return [DeathGuard, "--pdeathsig", start.EndsInOrder ? "TERM" : "KILL", "--", Shell, "-c", script, "sh",
            start.Program, .. start.Arguments];
    }

    private void Release(HelperStart start)
    {
        var line = new byte[3];
        try
        {
            Output.BaseStream.ReadExactly(line);
            Input.Write("go\n"u8);
        }
        catch (IOException failure)
        {
            Kill();
            throw new NativeException("start the program", $"{start.Program}: {Error.ReadToEnd().Trim()}", Errno.InputOutput, failure);
        }
    }

    private static unsafe (SafeFileHandle Read, SafeFileHandle Write) Pipe()
    {
        var ends = stackalloc int[2];
        return SpawnCalls.pipe2(ends, CloseOnExec) == 0 ? (new SafeFileHandle(ends[0], true), new SafeFileHandle(ends[1], true))
            : throw new NativeException("start a program", "a pipe", Marshal.GetLastPInvokeError());
    }

    private static void RandomAccessRead(SafeFileHandle pipe, Span<byte> to)
    {
        using var same = new SafeFileHandle(pipe.DangerousGetHandle(), false);
        using var stream = new FileStream(same, FileAccess.Read, 0);
        stream.ReadExactly(to);
    }

    // Where the program that started this one ignores the end of its children, the kernel does not say how ours ended.
    private static unsafe void EndIgnoring()
    {
        const int ChildEnded = 17, Length = 256;
        const nint Ignored = 1;
        var old = stackalloc byte[Length];
        if (SpawnCalls.sigaction(ChildEnded, 0, (nint)old) == 0 && *(nint*)old == Ignored)
            _ = SpawnCalls.signal(ChildEnded, 0);
    }

    /// <summary>Ends it where it still runs, and closes its streams.</summary>
    public unsafe void Dispose()
    {
        const int Seconds = 10;
        Kill();
        // One that the kernel cannot end, because it waits for a device, is left to its thread.
        var hasEnded = _thread.Join(Seconds * 1000);
        lock (_gate)
        {
            if (_isDisposed)
                return;
            _isDisposed = true;
            if (hasEnded)
                _lastStatus = (int)_plan.State->Status;
        }
        Input.Dispose();
        Output.Dispose();
        Error.Dispose();
        if (!hasEnded)
            return;
        if (_plan.State->Handle >= 0)
            new SafeFileHandle(_plan.State->Handle, true).Dispose();
        _plan.Dispose();
    }
}
