using Vembar.Common;
using Vembar.Images.Nodes;
using Vembar.Images.Reading;

namespace Vembar.Volumes.Sources;

/// <summary>What can be captured: a folder of Linux or a Windows volume.</summary>
public interface ISource : IReadOnlyTree, IDisposable
{
    /// <summary>"folder" or "volume".</summary>
    string Kind { get; }

    /// <summary>Tells it from any other that has been at the same path; empty when that cannot be told.</summary>
    string Identity { get; }

    /// <summary>Whether images of it have each file's change time, so that it can be compared.</summary>
    bool KeepsChangeTimes { get; }

    /// <summary>
    /// By its own clock: a time before which nothing is changed any more once a walk has begun, so that what is changed later has a later
    /// one; null where that cannot be told.
    /// </summary>
    /// <param name="began">When the walk began, UTC.</param>
    /// <param name="latest">The latest change time that it met, in 100 ns since 1601.</param>
    DateTime? ChangedBefore(DateTime began, long latest);

    /// <summary>Walks over everything.</summary>
    /// <param name="options">How.</param>
    /// <param name="cancellation">Ends the walk.</param>
    /// <exception cref="VembarException">Folders cannot be read, or files are of a kind that cannot be captured; all told
    /// together.</exception>
    Task<SourceTree> WalkAsync(WalkOptions options, CancellationToken cancellation);

    /// <summary>Opens a file of a walk for reading. Several threads may do so at once.</summary>
    /// <exception cref="Native.NativeException">It went away or cannot be read.</exception>
    ISourceFile Open(SourceNode node);
}
