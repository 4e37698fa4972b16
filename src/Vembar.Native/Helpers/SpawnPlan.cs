using System.Collections;
using System.Runtime.InteropServices;
using Microsoft.Win32.SafeHandles;

namespace Vembar.Native.Helpers;

/// <summary>What posix_spawn(3) needs to start one program, in memory outside of the managed heap until it is disposed.</summary>
internal sealed unsafe class SpawnPlan : IDisposable
{
    private const int SetSignalMask = 0x08, SetSignalDefaults = 0x04, OwnSession = 0x80;
    private const int Space = 1024, SignalSetLength = 128;
    private const int LowestOwn = 200, DuplicateFrom = 1030;

    private static readonly nint s_library = NativeLibrary.Load("libc.so.6");
    private readonly List<nint> _memory = [];
    private readonly List<SafeFileHandle> _copies = [];

    /// <param name="start">What is started.</param>
    /// <param name="program">The program and the arguments that are run for it.</param>
    /// <param name="streams">Its standard input, output and error.</param>
    /// <param name="told">The end of a pipe that is told once it runs.</param>
    /// <exception cref="NativeException">There are too many open files.</exception>
    public SpawnPlan(HelperStart start, IReadOnlyList<string> program, SafeFileHandle[] streams, SafeFileHandle told)
    {
        State = (HelperState*)NativeMemory.AllocZeroed((nuint)sizeof(HelperState));
        try
        {
            var isArm = RuntimeInformation.ProcessArchitecture == Architecture.Arm64;
            State->SystemCall = NativeLibrary.GetExport(s_library, "syscall");
            State->Spawn = NativeLibrary.GetExport(s_library, "posix_spawn");
            State->ErrorPlace = NativeLibrary.GetExport(s_library, "__errno_location");
            (State->WaitNumber, State->ControlNumber, State->WriteNumber, State->OwnNumber) = isArm ? (260, 167, 64, 172) : (61, 157, 1,
                39);
            State->Path = Text(program[0]);
            State->Arguments = Table(program);
            State->Environment = Table(EnvironmentOf(start));
            State->Told = told.DangerousGetHandle();
            (State->Rules, State->Handle) = (-1, -1);
            State->Actions = Actions(start, streams);
            State->Attributes = Attributes();
            if (start.Confinement is { } confinement)
                Confine(confinement);
        }
        catch
        {
            Dispose();
            throw;
        }
    }

    /// <summary>What the thread works on.</summary>
    public HelperState* State { get; private set; }

    private static IEnumerable<string> EnvironmentOf(HelperStart start)
    {
        if (!start.HasOwnEnvironment)
        {
            foreach (DictionaryEntry variable in Environment.GetEnvironmentVariables())
            {
                if (!start.Environment.ContainsKey((string)variable.Key))
                    yield return $"{variable.Key}={variable.Value}";
            }
        }
        foreach (var (name, value) in start.Environment)
            yield return $"{name}={value}";
    }

    // A copy with a high number: none that is put to its place may be one that is still to be copied.
    private int High(SafeHandle file)
    {
        var copy = SpawnCalls.fcntl((int)file.DangerousGetHandle(), DuplicateFrom, LowestOwn);
        if (copy < 0)
            throw new NativeException("start a program", "an open file", Marshal.GetLastPInvokeError());
        _copies.Add(new SafeFileHandle(copy, true));
        return copy;
    }

    private nint Actions(HelperStart start, SafeFileHandle[] streams)
    {
        var actions = Zeroed(Space);
        _ = SpawnCalls.posix_spawn_file_actions_init(actions);
        for (var i = 0; i < streams.Length; i++)
            _ = SpawnCalls.posix_spawn_file_actions_adddup2(actions, High(streams[i]), i);
        foreach (var (number, file) in start.Files)
            _ = SpawnCalls.posix_spawn_file_actions_adddup2(actions, High(file), number);
        if (start.Folder.Length > 0)
            _ = SpawnCalls.posix_spawn_file_actions_addchdir_np(actions, (byte*)Text(start.Folder));
        return actions;
    }

    // Nothing of how this program treats signals is for others; an interruption at the terminal is for this program alone.
    private nint Attributes()
    {
        var attributes = Zeroed(Space);
        var signals = Zeroed(SignalSetLength);
        _ = SpawnCalls.posix_spawnattr_init(attributes);
        _ = SpawnCalls.sigemptyset(signals);
        _ = SpawnCalls.posix_spawnattr_setsigmask(attributes, signals);
        _ = SpawnCalls.sigfillset(signals);
        _ = SpawnCalls.posix_spawnattr_setsigdefault(attributes, signals);
        _ = SpawnCalls.posix_spawnattr_setflags(attributes, SetSignalMask | SetSignalDefaults | OwnSession);
        return attributes;
    }

    private void Confine(Confinement confinement)
    {
        State->IsConfined = 1;
#pragma warning disable CA2000 // kept among what is closed after the start
        if (Landlock.TryMake(confinement) is { } rules)
#pragma warning restore CA2000
        {
            _copies.Add(rules);
            State->Rules = rules.DangerousGetHandle();
        }
        var code = SystemCallFilter.Make();
        var filter = Zeroed((code.Length + 2) * sizeof(ulong));
        var instructions = filter + 2 * sizeof(ulong);
        code.CopyTo(new Span<ulong>((void*)instructions, code.Length));
        // struct sock_fprog: how many, where.
        *(ushort*)filter = (ushort)code.Length;
        *(nint*)(filter + sizeof(ulong)) = instructions;
        State->Filter = filter;
    }

    private nint Zeroed(int length)
    {
        var memory = (nint)NativeMemory.AllocZeroed((nuint)length);
        _memory.Add(memory);
        return memory;
    }

    private nint Text(string text)
    {
        var bytes = PosixName.Encode(text);
        var memory = Zeroed(bytes.Length + 1);
        bytes.CopyTo(new Span<byte>((void*)memory, bytes.Length));
        return memory;
    }

    private nint Table(IEnumerable<string> texts)
    {
        var places = texts.Select(Text).ToArray();
        var table = Zeroed((places.Length + 1) * sizeof(nint));
        places.CopyTo(new Span<nint>((void*)table, places.Length));
        return table;
    }

    /// <summary>Closes what was only needed for the start.</summary>
    public void CloseCopies()
    {
        foreach (var copy in _copies)
            copy.Dispose();
        _copies.Clear();
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        if (State is null)
            return;
        CloseCopies();
        if (State->Actions != 0)
            _ = SpawnCalls.posix_spawn_file_actions_destroy(State->Actions);
        if (State->Attributes != 0)
            _ = SpawnCalls.posix_spawnattr_destroy(State->Attributes);
        foreach (var memory in _memory)
            NativeMemory.Free((void*)memory);
        NativeMemory.Free(State);
        State = null;
    }
}
