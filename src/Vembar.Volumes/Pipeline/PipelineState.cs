namespace Vembar.Volumes.Pipeline;

/// <summary>What the pipeline has done so far.</summary>
/// <param name="Files">Files read.</param>
/// <param name="BytesRead">Bytes read.</param>
/// <param name="BytesNew">Bytes of chunks that were not in the archive.</param>
/// <param name="Current">The file at hand.</param>
public readonly record struct PipelineState(long Files, long BytesRead, long BytesNew, string Current);
