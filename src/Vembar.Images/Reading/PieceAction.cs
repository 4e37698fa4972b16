namespace Vembar.Images.Reading;

/// <summary>Something done with a piece of a file.</summary>
/// <param name="bytes">Its bytes.</param>
/// <param name="offset">Where in the file it is.</param>
public delegate void PieceAction(ReadOnlySpan<byte> bytes, long offset);
