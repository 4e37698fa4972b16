namespace Vembar.Images.Nodes;

/// <summary>A stream that is yet to be stored: its bytes, or where they are read from.</summary>
internal sealed record PendingStream(string Name, byte[]? Bytes, Func<ISourceFile>? Open = null);
