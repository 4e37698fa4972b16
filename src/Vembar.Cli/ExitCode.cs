using Vembar.Common;

namespace Vembar.Cli;

/// <summary>The exit codes, as docs/json.md tells them.</summary>
internal static class ExitCode
{
    public const int Done = 0, NotInOrder = 1, Usage = 2, Input = 3, Damaged = 4, Surroundings = 5, Interrupted = 130;

    public static int For(ErrorKind kind) => kind switch
    {
        ErrorKind.Usage => Usage,
        ErrorKind.Input => Input,
        ErrorKind.Damaged => Damaged,
        _ => Surroundings,
    };
}
