namespace Vembar.Operations;

/// <summary>Figures of a run that stored an image.</summary>
/// <param name="FilesSeen">Files of the image.</param>
/// <param name="FilesRead">Files whose content was read.</param>
/// <param name="BytesSeen">Bytes of the image.</param>
/// <param name="BytesRead">Bytes read.</param>
/// <param name="BytesNew">Bytes that the archive did not hold yet, before compression.</param>
/// <param name="BytesStored">Bytes that the archive grew by.</param>
/// <param name="Seconds">Time taken.</param>
public sealed record StoreStats(long FilesSeen, long FilesRead, long BytesSeen, long BytesRead, long BytesNew, long BytesStored,
    double Seconds);
