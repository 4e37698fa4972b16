using Vembar.Common;

namespace Vembar.Cli;

/// <summary>The exit codes, as docs/json.md tells them.</summary>
internal static class ExitCode
{
    public const int Done = 0, NotInOrder = 1, Usage = 2, Input = 3, Damaged = 4, Surroundings = 5, Interrupted = 130;

    /// <summary>The codes, and what they mean.</summary>
    public static IReadOnlyList<(int Code, string Text)> Meanings { get; } =
    [
        (Done, "done"),
        (NotInOrder, "done, and what was asked about is not in order: not ready, damaged, not as expected, a change refused"),
        (Usage, "the command line is wrong"),
        (Input, "the input cannot be used: not a disk, no Windows on it, no such image, a malformed file, refused by a rule"),
        (Damaged, "the archive is damaged"),
        (Surroundings, "the surroundings are in the way: permission, no room, a missing library, locked by another process"),
        (Interrupted, "interrupted; nothing half-done is left"),
    ];

    public static int For(ErrorKind kind) => kind switch
    {
        ErrorKind.Usage => Usage,
        ErrorKind.Input => Input,
        ErrorKind.Damaged => Damaged,
        _ => Surroundings,
    };
}
