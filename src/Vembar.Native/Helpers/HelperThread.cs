using System.Runtime.CompilerServices;

namespace Vembar.Native.Helpers;

/// <summary>The thread that starts a helper program and waits until it has ended.</summary>
/// <remarks>
/// It lives as long as the program, because the kernel ends a program that asks for it (PR_SET_PDEATHSIG) with the thread that started it.
/// A thread that confined itself stays confined, and so is every thread that it starts; the runtime starts threads wherever it needs one.
/// So from the confinement on nothing of the runtime runs here: one method without allocations, compiled as a whole before it begins, that
/// calls functions of the C library by one signature, whose transition is made before.
/// </remarks>
internal static unsafe class HelperThread
{
    private const nint RestrictSelf = 446, OpenProcess = 434, SetSeccomp = 22, FilterMode = 2, SetNoNewPrivileges = 38, InterruptedCall = 4;

    /// <summary>Starts the program and waits for its end.</summary>
    [MethodImpl(MethodImplOptions.AggressiveOptimization | MethodImplOptions.NoInlining)]
    public static void Run(HelperState* state)
    {
        var call = (delegate* unmanaged<nint, nint, nint, nint, nint, nint, nint>)state->SystemCall;
        var spawn = (delegate* unmanaged<nint, nint, nint, nint, nint, nint, nint>)state->Spawn;
        var place = (delegate* unmanaged<nint, nint, nint, nint, nint, nint, nint>)state->ErrorPlace;
        // Makes the transition of this signature.
        _ = call(state->OwnNumber, 0, 0, 0, 0, 0);
        _ = place(0, 0, 0, 0, 0, 0);
        var status = 0;
        if (state->IsConfined != 0)
        {
            if (call(state->ControlNumber, SetNoNewPrivileges, 1, 0, 0, 0) != 0
                || (state->Rules >= 0 && call(RestrictSelf, state->Rules, 0, 0, 0, 0) != 0)
                || call(state->ControlNumber, SetSeccomp, FilterMode, state->Filter, 0, 0) != 0)
                state->Error = *(int*)place(0, 0, 0, 0, 0, 0);
        }
        var process = 0;
        if (state->Error == 0)
            state->Error = (int)spawn((nint)(&process), state->Path, state->Actions, state->Attributes, state->Arguments,
                state->Environment);
        if (state->Error == 0)
        {
            state->Process = process;
            state->Handle = (int)call(OpenProcess, process, 0, 0, 0, 0);
        }
        _ = call(state->WriteNumber, state->Told, (nint)(&status), 1, 0, 0);
        if (state->Error != 0)
            return;
        nint ended;
        do
            ended = call(state->WaitNumber, process, (nint)(&status), 0, 0, 0);
        while (ended < 0 && *(int*)place(0, 0, 0, 0, 0, 0) == InterruptedCall);
        state->Status = ended < 0 ? -1 : status;
    }
}
