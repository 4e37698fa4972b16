using Vembar.Store.Hashing;
using Vembar.Volumes.Pipeline;
using Vembar.Volumes.Sources;

namespace Vembar.Operations.Capture;

/// <summary>A source that was stored.</summary>
/// <param name="Root">The hash of its root node.</param>
/// <param name="FilesRead">Files whose content was read.</param>
/// <param name="Vanished">Files that went away meanwhile, and are not in it.</param>
/// <param name="LeftOut">What was left out.</param>
/// <param name="Warnings">What should be known.</param>
/// <param name="State">How much was read, and how much of it was new.</param>
internal sealed record CapturedTree(ChunkId Root, long FilesRead, int Vanished, IReadOnlyList<ExcludedEntry> LeftOut,
    IReadOnlyList<string> Warnings, PipelineState State);
