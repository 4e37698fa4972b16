using Vembar.Native;

namespace Vembar.Common;

/// <summary>An error that a user can cause and mend: one line that says what is wrong, one that says what to do.</summary>
public sealed class VembarException : Exception
{
    /// <summary>The code of a run that was interrupted and says itself what it left.</summary>
    public const string Interrupted = "interrupted";

    /// <summary>Creates the error.</summary>
    /// <param name="kind">Which kind.</param>
    /// <param name="code">A short stable word for scripts, in kebab case.</param>
    /// <param name="message">What is wrong, with the value at fault.</param>
    /// <param name="hint">What to do; may be empty.</param>
    /// <param name="details">Further lines, when several things are wrong at once.</param>
    /// <param name="inner">The cause, for the log.</param>
    public VembarException(ErrorKind kind, string code, string message, string hint = "", IReadOnlyList<string>? details = null,
        Exception? inner = null)
        : base(message, inner)
    {
        Kind = kind;
        Code = code;
        Hint = hint;
        Details = details ?? [];
    }

    /// <summary>Creates the error.</summary>
    /// <param name="kind">Which kind.</param>
    /// <param name="code">A short stable word for scripts, in kebab case.</param>
    /// <param name="message">What is wrong, with the value at fault.</param>
    /// <param name="advice">What to do, which the program puts into words.</param>
    /// <param name="details">Further lines, when several things are wrong at once.</param>
    /// <param name="inner">The cause, for the log.</param>
    public VembarException(ErrorKind kind, string code, string message, Advice advice, IReadOnlyList<string>? details = null,
        Exception? inner = null)
        : this(kind, code, message, "", details, inner) => Advice = advice;

    /// <summary>Which kind.</summary>
    public ErrorKind Kind { get; }

    /// <summary>A short stable word for scripts.</summary>
    public string Code { get; }

    /// <summary>What to do, in words that hold for every program; may be empty.</summary>
    public string Hint { get; }

    /// <summary>What to do, where that names what a program calls its commands and options; null for nothing.</summary>
    public Advice? Advice { get; init; }

    /// <summary>The problems that it stands for, when it stands for several.</summary>
    public IReadOnlyList<VembarException> Problems { get; private init; } = [];

    /// <summary>Further lines.</summary>
    public IReadOnlyList<string> Details { get; }

    /// <summary>An error of the input.</summary>
    public static VembarException Input(string code, string message, string hint = "", IReadOnlyList<string>? details = null) =>
        new(ErrorKind.Input, code, message, hint, details);

    /// <summary>An error of the input.</summary>
    public static VembarException Input(string code, string message, Advice advice, IReadOnlyList<string>? details = null) =>
        new(ErrorKind.Input, code, message, advice, details);

    /// <summary>An error of the environment.</summary>
    public static VembarException Environment(string code, string message, string hint = "") =>
        new(ErrorKind.Environment, code, message, hint);

    /// <summary>An error of the environment.</summary>
    public static VembarException Environment(string code, string message, Advice advice) =>
        new(ErrorKind.Environment, code, message, advice);

    /// <summary>A damaged archive.</summary>
    /// <param name="message">What is damaged.</param>
    /// <param name="advice">What to do; null for seeing what it touches.</param>
    public static VembarException Damaged(string message, Advice? advice = null) =>
        new(ErrorKind.Damaged, "archive-damaged", message, advice ?? Common.Advice.Of("see-damage"));

    /// <summary>The code of the error that the program which serves a disk image ended, or does not answer.</summary>
    internal const string DiskServer = "disk-server";

    /// <summary>The error that the program which serves a disk image ended, where that is behind a failure; null where it is not. What
    /// cannot be read then says nothing of the disk.</summary>
    internal static VembarException? ServerGone(Exception failure)
    {
        for (Exception? at = failure; at is not null; at = at.InnerException)
        {
            if (at is VembarException { Code: DiskServer } own)
                return own;
        }
        return null;
    }

    /// <summary>A damaged archive.</summary>
    /// <param name="message">What is damaged.</param>
    /// <param name="hint">What to do.</param>
    public static VembarException Damaged(string message, string hint) => new(ErrorKind.Damaged, "archive-damaged", message, hint);

    /// <summary>All problems that were found before work started, told together.</summary>
    /// <param name="problems">At least one.</param>
    public static VembarException Aggregate(IReadOnlyList<VembarException> problems)
    {
        if (problems.Count == 1)
            return problems[0];
        var worst = problems.MaxBy(p => p.Kind)!;
        return new VembarException(
            worst.Kind, worst.Code, $"{problems.Count} problems were found before work started",
            "Nothing was changed. Fix these and run it again.",
            [.. problems.Select(p => p.Hint.Length > 0 ? $"{p.Message} ({p.Hint})" : p.Message)])
        {
            Problems = problems,
        };
    }

    /// <summary>Says in our words what the operating system said.</summary>
    /// <param name="failure">What was thrown.</param>
    /// <param name="doing">What was being done ("write the archive").</param>
    /// <param name="path">To what.</param>
    /// <returns>The error to throw, or null when it is not one that a user can cause.</returns>
    public static VembarException? From(Exception failure, string doing, string path)
    {
        if (ServerGone(failure) is { } gone)
            return gone;
        var errno = failure switch
        {
            VembarException => 0,
            NativeException native => native.Errno,
            UnauthorizedAccessException => Errno.AccessDenied,
            FileNotFoundException or DirectoryNotFoundException => Errno.NotFound,
            // The framework keeps the error number of a failed read or write in the low half.
            IOException io => io.HResult & 0xFFFF,
            DllNotFoundException => -1,
            _ => 0,
        };
        return errno switch
        {
            0 when failure is VembarException own => own,
            0 when failure is IOException =>
                new(ErrorKind.Environment, "io-error", $"could not {doing} {Quoted(path)}: {failure.Message}", "", null, failure),
            0 => null,
            Errno.NotAFile =>
                new(ErrorKind.Input, "not-a-file", $"could not {doing} {Quoted(path)}: it is a pipe, a socket or a device, not a file",
                "Name a file.", null, failure),
            -1 => new(ErrorKind.Environment, "library-missing", $"could not {doing} {Quoted(path)}: {failure.Message.Split('\n')[0]}",
                "Install the library (Debian: libzstd1, libarchive13, ntfs-3g).", null, failure),
            Errno.NoSpace or Errno.Quota =>
                new(ErrorKind.Environment, "no-room", $"could not {doing} {Quoted(path)}: no room left on the device",
                "Make room there or choose another place; what was there before is unchanged.", null, failure),
            Errno.TooLarge =>
                new(ErrorKind.Environment, "no-room",
                $"could not {doing} {Quoted(path)}: the file would be larger than its file system takes, or than this process may make it",
                "Choose a place on another file system, or raise the limit (ulimit -f); what was there before is unchanged.", null,
                failure),
            Errno.AccessDenied or Errno.NotPermitted =>
                new(ErrorKind.Environment, "no-permission", $"could not {doing} {Quoted(path)}: permission denied",
                "Run as a user who may, or choose another place.", null, failure),
            Errno.ReadOnly =>
                new(ErrorKind.Environment, "read-only", $"could not {doing} {Quoted(path)}: the file system is read-only",
                "Choose a place that can be written.", null, failure),
            Errno.NotFound =>
                new(ErrorKind.Input, "not-found", $"could not {doing} {Quoted(path)}: there is no such file or folder", "Check the path.",
                null,
                failure),
            _ => new(ErrorKind.Environment, "io-error", $"could not {doing} {Quoted(path)}: {failure.Message}", "", null, failure),
        };
    }

    // A description quotes the path that is in it itself.
    private static string Quoted(string path) => path.Contains('\'', StringComparison.Ordinal) ? path : $"'{path}'";
}
