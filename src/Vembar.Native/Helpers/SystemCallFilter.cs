using System.Runtime.InteropServices;

namespace Vembar.Native.Helpers;

/// <summary>The system calls that a confined program does not get (seccomp(2)): those that reach the network, other processes, or more of
/// the kernel than a reader of files needs. They fail with EPERM.</summary>
internal static class SystemCallFilter
{
    private const uint Allow = 0x7FFF_0000, Refuse = 0x0005_0001, KillProcess = 0x8000_0000, FirstOfX32 = 0x4000_0000;
    private const ushort LoadWord = 0x20, JumpIfEqual = 0x15, JumpIfAtLeast = 0x35, Return = 0x06;

    // In this order: socket, connect, ptrace, process_vm_readv, process_vm_writev, bpf, perf_event_open, userfaultfd, mount, pivot_root,
    // chroot, unshare, setns, init_module, finit_module, kexec_load, add_key, request_key, keyctl, open_by_handle_at (asm/unistd.h).
    private static readonly uint[] s_onX64 =
        [41, 42, 101, 310, 311, 321, 298, 323, 165, 155, 161, 272, 308, 175, 313, 246, 248, 249, 250, 304];
    private static readonly uint[] s_onArm64 =
        [198, 203, 117, 270, 271, 280, 241, 282, 40, 41, 51, 97, 268, 105, 273, 104, 217, 218, 219, 265];

    // The same on all: io_uring_setup, open_tree, move_mount, fsopen, fsconfig, fsmount, fspick.
    private static readonly uint[] s_everywhere = [425, 428, 429, 430, 431, 432, 433];

    /// <summary>Makes the filter as a program for the kernel.</summary>
    /// <returns>Its instructions, of 8 bytes each.</returns>
    public static ulong[] Make()
    {
        var isArm = RuntimeInformation.ProcessArchitecture == Architecture.Arm64;
        uint[] refused = [.. isArm ? s_onArm64 : s_onX64, .. s_everywhere];
        List<ulong> code =
        [
            Instruction(LoadWord, 4), Instruction(JumpIfEqual, isArm ? 0xC000_00B7 : 0xC000_003E, ifSo: 1),
            Instruction(Return, KillProcess), Instruction(LoadWord, 0),
            // Calls of the x32 way have numbers of their own.
            Instruction(JumpIfAtLeast, FirstOfX32, ifSo: (byte)(refused.Length + 1)),
        ];
        for (var i = 0; i < refused.Length; i++)
            code.Add(Instruction(JumpIfEqual, refused[i], ifSo: (byte)(refused.Length - i)));
        code.AddRange([Instruction(Return, Allow), Instruction(Return, Refuse)]);
        return [.. code];
    }

    // struct sock_filter: code, jumps if true and if false, operand.
    private static ulong Instruction(ushort code, uint operand, byte ifSo = 0) => code | (ulong)ifSo << 16 | (ulong)operand << 32;
}
