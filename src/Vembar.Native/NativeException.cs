namespace Vembar.Native;

/// <summary>A native call failed. Carries the operating system's error number.</summary>
public sealed class NativeException : IOException
{
    /// <summary>Creates the exception for a failed call.</summary>
    /// <param name="operation">The call, in plain words ("open", "write").</param>
    /// <param name="target">What it was applied to; may be empty.</param>
    /// <param name="errno">The error number as in errno(3).</param>
    /// <param name="cause">What lies beneath; its message is the more telling one.</param>
    public NativeException(string operation, string target, int errno, Exception? cause = null)
        : base(Told(operation, target, cause?.Message ?? Native.Errno.Message(errno)), cause)
    {
        Errno = errno;
        Target = target;
    }

    private static string Told(string operation, string target, string why) =>
        target.Length == 0 ? $"{operation}: {why}"
        : target.Contains('\'', StringComparison.Ordinal) || target.StartsWith("the ", StringComparison.Ordinal)
            ? $"{operation} {target}: {why}" : $"{operation} '{target}': {why}";

    /// <summary>The error number (errno.h, Linux).</summary>
    public int Errno { get; }

    /// <summary>What the call was applied to; may be empty.</summary>
    public string Target { get; }
}
