using System.Runtime.InteropServices;

namespace Vembar.Native.Helpers;

/// <summary>How another program is started.</summary>
/// <param name="Program">The path of its file.</param>
/// <param name="Arguments">Its arguments.</param>
public sealed record HelperStart(string Program, IReadOnlyList<string> Arguments)
{
    /// <summary>Variables of its environment besides those of this program.</summary>
    public IReadOnlyDictionary<string, string> Environment { get; init; } = new Dictionary<string, string>();

    /// <summary>Whether its environment holds <see cref="Environment"/> alone.</summary>
    public bool HasOwnEnvironment { get; init; }

    /// <summary>The folder that it works in; empty for the one that this program works in.</summary>
    public string Folder { get; init; } = "";

    /// <summary>Whether it reads what is written to <see cref="HelperProcess.Input"/>; else its standard input is empty.</summary>
    public bool HasInput { get; init; }

    /// <summary>Open files that it gets, by the numbers that they have there; 3 and higher.</summary>
    public IReadOnlyDictionary<int, SafeHandle> Files { get; init; } = new Dictionary<int, SafeHandle>();

    /// <summary>Whether the first of <see cref="Files"/>, number 3, is a socket that it listens on, told to it as systemd does
    /// (sd_listen_fds(3)).</summary>
    public bool ListensOnThree { get; init; }

    /// <summary>What it may do; null for all that this program may.</summary>
    public Confinement? Confinement { get; init; }

    /// <summary>Whether it is asked to end (SIGTERM) when this program ends; else it is killed then.</summary>
    public bool EndsInOrder { get; init; }
}
