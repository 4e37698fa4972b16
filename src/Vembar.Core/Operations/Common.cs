using System.Runtime;
using Vembar.Core.Archives;

namespace Vembar.Core.Operations;

/// <summary>How far a long operation is.</summary>
/// <param name="Phase">What is being done, as a short phrase ("reading", "writing files").</param>
/// <param name="Done">How much, in the unit below.</param>
/// <param name="Total">Of how much; 0 when that is not known yet.</param>
/// <param name="InBytes">Whether the numbers are bytes (true) or things (false).</param>
/// <param name="Current">The file at hand; may be empty.</param>
public readonly record struct OperationProgress(string Phase, long Done, long Total, bool InBytes, string Current);

/// <summary>An archive and, within it, an image: ARCHIVE#WHICH.</summary>
/// <param name="Archive">The archive's path.</param>
/// <param name="Which">A number, a name or "last"; null when none was said.</param>
public sealed record ImageReference(ArchivePlace Archive, string? Which)
{
    /// <summary>Splits at the first '#' behind which the path of a file ends; at the last one where there is no such file.</summary>
    /// <param name="text">What was given.</param>
    /// <param name="bases">Where to look for the archive's bases, beside its own folder.</param>
    public static ImageReference Parse(string text, params IReadOnlyList<string> bases)
    {
        if (Native.Posix.Exists(text) || !text.Contains('#'))
            return new ImageReference(new ArchivePlace(text, bases), null);
        for (var at = text.IndexOf('#'); at >= 0; at = text.IndexOf('#', at + 1))
        {
            if (Native.Posix.Exists(text[..at]))
                return Split(text, at, bases);
        }
        return Split(text, text.LastIndexOf('#'), bases);
    }

    /// <summary>Whether a text names an image, and not a folder or a disk.</summary>
    /// <param name="text">What was given.</param>
    public static bool IsImage(string text) => !Directory.Exists(text) && Parse(text).Archive.Path is var path && File.Exists(path) && ArchiveReader.IsArchive(path);

    private static ImageReference Split(string text, int at, IReadOnlyList<string> bases) => new(new ArchivePlace(text[..at], bases), at + 1 == text.Length ? null : text[(at + 1)..].Trim('"'));

    /// <inheritdoc/>
    public override string ToString() => Which is null ? Archive.Path : $"{Archive}#{Which}";
}

/// <summary>What several operations check the same way.</summary>
internal static class Checks
{
    public static string ProgramVersion { get; } = typeof(Checks).Assembly.GetName().Version is { } v ? $"{v.Major}.{v.Minor}.{v.Build}" : "";

    /// <summary>Runs a check and keeps its error for later, so that all problems can be told together.</summary>
    public static T? Collect<T>(List<VembarException> problems, Func<T> check) where T : class
    {
        try
        {
            return check();
        }
        catch (VembarException problem)
        {
            problems.Add(problem);
            return null;
        }
    }

    public static void Throw(List<VembarException> problems)
    {
        if (problems.Count > 0)
            throw VembarException.Together(problems);
    }

    /// <exception cref="VembarException">No image may have this name.</exception>
    public static void ImageName(string name)
    {
        if (string.IsNullOrWhiteSpace(name))
            throw new VembarException(ErrorKind.Usage, "bad-name", "an image needs a name", "Give it with --name \"Reading room\".");
        if (name.Any(char.IsControl))
            throw new VembarException(ErrorKind.Usage, "bad-name", "the name holds control characters", "Give a plain name.");
        if (name.All(char.IsAsciiDigit) || name.Equals("last", StringComparison.OrdinalIgnoreCase))
            throw new VembarException(ErrorKind.Usage, "bad-name", $"'{name}' cannot be a name: it would be taken for a number or for the last image", "Give a name with letters.");
    }

    /// <exception cref="VembarException">Another image has the name.</exception>
    public static void NameIsFree(ArchiveReader archive, string name, int? exceptNumber = null)
    {
        if (archive.Images.FirstOrDefault(i => i.Name.Equals(name, StringComparison.OrdinalIgnoreCase) && i.Number != exceptNumber) is { } taken)
        {
            throw VembarException.Input("name-taken", $"'{archive.Path}' already holds an image \"{taken.Name}\" (number {taken.Number})",
                "Choose another name; it holds: " + string.Join(", ", archive.Images.Select(i => $"{i.Number} \"{i.Name}\"")) + ".");
        }
    }

    /// <summary>An archive that will be added to: it opens and may be written, or its folder is there and may be.</summary>
    /// <exception cref="VembarException">Neither.</exception>
    public static void CanAddTo(ArchivePlace place, string? name)
    {
        var archive = place.Path;
        if (Native.Posix.Exists(archive))
        {
            using var reader = ArchiveReader.Open(place);
            if (name is not null)
                NameIsFree(reader, name);
            try
            {
                Native.Posix.OpenFile(archive, write: true).Dispose();
            }
            catch (Exception failure) when (VembarException.From(failure, "write the archive", archive) is { } error)
            {
                throw error;
            }
            return;
        }
        var folder = Path.GetDirectoryName(Path.GetFullPath(archive));
        if (folder is null || !Native.Posix.IsFolder(folder))
            throw VembarException.Input("no-such-folder", $"there is no folder '{folder}' for the archive '{archive}'", "Check the path, or make the folder.");
        if (!MayWrite(folder))
            throw VembarException.Surroundings("no-permission", $"the folder '{folder}' cannot be written, so the archive '{archive}' cannot be made", "Choose another place, or run as a user who may write there.");
    }

    public static bool MayWrite(string folder)
    {
        var probe = Path.Combine(folder, $".vembar-{Guid.NewGuid():N}");
        try
        {
            Native.Posix.OpenFile(probe, write: true, createNew: true).Dispose();
            Native.Posix.Remove(null, Native.PosixName.Encode(probe), folder: false);
            return true;
        }
        catch (Exception failure) when (failure is IOException or UnauthorizedAccessException)
        {
            return false;
        }
    }
}

/// <summary>Gives memory back between the phases of work on very many files.</summary>
internal static class Collecting
{
    /// <summary>Keeps the collector away while a tree is read, for of what is made then most stays; until it has taken as much memory as that may.</summary>
    public static IDisposable Paused()
    {
        const long Most = 96 << 20;
        try
        {
            return new Pause(GCSettings.LatencyMode != GCLatencyMode.NoGCRegion && GC.TryStartNoGCRegion(Most));
        }
        catch (Exception refused) when (refused is InvalidOperationException or ArgumentOutOfRangeException)
        {
            // Another operation of this process was a moment earlier, or there is not so much memory.
            return new Pause(false);
        }
    }

    private sealed class Pause(bool began) : IDisposable
    {
        public void Dispose()
        {
            try
            {
                if (began && GCSettings.LatencyMode == GCLatencyMode.NoGCRegion)
                    GC.EndNoGCRegion();
            }
            catch (InvalidOperationException)
            {
                // It has ended already: more was made than was thought, perhaps by others.
            }
        }
    }

    // What a phase left behind stays in memory until the collector has a reason; with very many files that is a third of it.
    public static void After(long files)
    {
        const int Many = 250_000;
        if (files >= Many)
            GC.Collect(GC.MaxGeneration, GCCollectionMode.Aggressive, blocking: true, compacting: true);
    }
}
