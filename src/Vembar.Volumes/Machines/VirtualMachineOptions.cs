namespace Vembar.Volumes.Machines;

/// <summary>A virtual machine.</summary>
public sealed record VirtualMachineOptions
{
    /// <summary>Its memory, in bytes.</summary>
    public long Memory { get; init; } = 4L << 30;

    /// <summary>How many processors it has.</summary>
    public int Processors { get; init; } = 2;

    /// <summary>What it starts by.</summary>
    public MachineFirmware Firmware { get; init; } = MachineFirmware.Uefi;

    /// <summary>Whether it reaches the network, behind this machine's address; nobody reaches it.</summary>
    public bool HasNetwork { get; init; }

    /// <summary>Whether it is emulated also where the processor could run it.</summary>
    public bool IsEmulated { get; init; }

    /// <summary>Files and folders that it finds on a second, small disk.</summary>
    public IReadOnlyList<string> Files { get; init; } = [];

    /// <summary>An answer file, which lies on that disk where Windows looks for one; null for none.</summary>
    public string? Answers { get; init; }

    /// <summary>A disc that it starts from instead of its disk; null for none.</summary>
    public string? Medium { get; init; }
}
