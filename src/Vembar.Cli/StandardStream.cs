using System.Text;
using Vembar.Common;

namespace Vembar.Cli;

/// <summary>
/// Standard output or error. What cannot be said on standard output is an error of its own, for the work may be done; what cannot be
/// said on standard error cannot be said at all. Whoever closes a pipe has seen enough, as the framework has it.
/// </summary>
internal sealed class StandardStream : Stream
{
    private readonly Stream _to;
    private readonly bool _mustBeSaid;

    private StandardStream(Stream to, bool mustBeSaid)
    {
        _to = to;
        _mustBeSaid = mustBeSaid;
    }

    /// <summary>Standard output as bytes.</summary>
    public static Stream Output { get; } = new StandardStream(Console.OpenStandardOutput(), mustBeSaid: true);

    /// <summary>Lets all text go through these.</summary>
    public static void Install()
    {
        static TextWriter Text(Stream stream) => new StreamWriter(stream, new UTF8Encoding(false)) { AutoFlush = true };
#pragma warning disable CA2000 // open as long as the program runs
        Console.SetOut(Text(Output));
#pragma warning restore CA2000
#pragma warning disable CA2000 // open as long as the program runs
        Console.SetError(Text(new StandardStream(Console.OpenStandardError(), mustBeSaid: false)));
#pragma warning restore CA2000
    }

    public override void Write(ReadOnlySpan<byte> buffer)
    {
        try
        {
            _to.Write(buffer);
        }
        catch (Exception failure) when (failure is IOException or UnauthorizedAccessException)
        {
            if (_mustBeSaid)
                throw VembarException.Environment("output-failed",
                    $"standard output cannot be written: {(failure is UnauthorizedAccessException ? "it is closed" : failure.Message)}",
                    "Whatever was changed is changed; only what is said of it is missing.");
        }
    }

    public override void Write(byte[] buffer, int offset, int count) => Write(buffer.AsSpan(offset, count));

    public override void Flush()
    {
    }

    public override bool CanRead => false;
    public override bool CanSeek => false;
    public override bool CanWrite => true;
    public override long Length => throw new NotSupportedException();
    public override long Position { get => throw new NotSupportedException(); set => throw new NotSupportedException(); }
    public override int Read(byte[] buffer, int offset, int count) => throw new NotSupportedException();
    public override long Seek(long offset, SeekOrigin origin) => throw new NotSupportedException();
    public override void SetLength(long value) => throw new NotSupportedException();
}
