using Vembar.Images.Records;
using Vembar.Store.Places;
using Vembar.Store.Places.Remote;
using Vembar.Store.Writing;

namespace Vembar.Operations;

/// <summary>What the work of commands gets from the program that it runs in. Nothing below changes the process.</summary>
public sealed class OperationHost
{
    /// <summary>The system's clock, and memory left alone: right for a program that does several things at once.</summary>
    public static OperationHost Default { get; } = new();

    /// <summary>Where times come from that are recorded.</summary>
    public TimeProvider Clock { get; init; } = TimeProvider.System;

    /// <summary>The file system that archives are in.</summary>
    public IFileSystem Files { get; init; } = LocalFileSystem.Instance;

    /// <summary>How much is done at once by one piece of work: files read, blocks compressed, folders looked into.</summary>
    public int Workers { get; init; } = Environment.ProcessorCount;

    /// <summary>Where what is needed for a while is put.</summary>
    public string TemporaryFolder { get; init; } = Path.GetTempPath();

    /// <summary>Who does the work, for the histories of archives ("user@host").</summary>
    public string By { get; init; } = $"{Environment.UserName}@{Environment.MachineName}";

    /// <summary>How the versions of images are made that nobody gave one.</summary>
    public VersionPattern Versions { get; init; } = VersionPattern.Standard;

    /// <summary>What is done about memory.</summary>
    public IMemoryPolicy Memory { get; init; } = new NoPolicy();

    /// <summary>The day, where this program runs.</summary>
    internal DateOnly Today => DateOnly.FromDateTime(Clock.GetLocalNow().DateTime);

    /// <summary>The time now, to be recorded.</summary>
    internal DateTime Now => Clock.GetUtcNow().UtcDateTime;

    /// <summary>Makes sure, as far as that can be told, that an archive elsewhere may be written.</summary>
    /// <exception cref="Common.VembarException">It may not.</exception>
    internal void EnsureWritable(string place)
    {
        if (Files is PlaceFileSystem places)
            places.EnsureWritable(place);
    }

    /// <summary>How an archive is opened to be changed.</summary>
    /// <param name="wait">How long to wait for another writer.</param>
    internal WriterOptions WriterOptions(TimeSpan wait) => new()
    {
        Wait = wait,
        Files = Files,
        Clock = Clock,
        By = By,
        Images = archive => [.. archive.Images.Select(i => (i.Number, i.Name, i.Version))],
    };

    private sealed class NoPolicy : IMemoryPolicy, IDisposable
    {
        public IDisposable BeginKeeping() => this;

        public void EndPhase(long files)
        {
        }

        public void Dispose()
        {
        }
    }
}
