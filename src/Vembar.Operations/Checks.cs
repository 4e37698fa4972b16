using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Store.Places;
using Vembar.Store.Reading;

namespace Vembar.Operations;

/// <summary>What several operations check the same way.</summary>
internal static class Checks
{
    public static string ProgramVersion { get; } = typeof(Checks).Assembly.GetName().Version is { } v ? $"{v.Major}.{v.Minor}.{v.Build}"
        : "";

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
            throw VembarException.Aggregate(problems);
    }

    /// <exception cref="VembarException">No image may have this name.</exception>
    public static void ImageName(string name)
    {
        if (string.IsNullOrWhiteSpace(name))
            throw new VembarException(ErrorKind.Usage, "bad-name", "an image needs a name", Advice.Of("bad-name"));
        if (name.Any(char.IsControl))
            throw new VembarException(ErrorKind.Usage, "bad-name", "the name holds control characters", "Give a plain name.");
        if (name.All(char.IsAsciiDigit) || name.Equals("last", StringComparison.OrdinalIgnoreCase))
            throw new VembarException(ErrorKind.Usage, "bad-name",
                $"'{name}' cannot be a name: it would be taken for a number or for the last image", "Give a name with letters.");
    }

    /// <exception cref="VembarException">Another image has the name.</exception>
    public static void NameIsFree(ArchiveReader archive, string name, int? exceptNumber = null)
    {
        if (archive.Images.FirstOrDefault(i => i.Name.Equals(name, StringComparison.OrdinalIgnoreCase)
            && i.Number != exceptNumber) is { } taken)
        {
            throw VembarException.Input("name-taken", $"'{archive.Path}' already holds an image \"{taken.Name}\" (number {taken.Number})",
                "Choose another name; it holds: " + string.Join(", ", archive.Images.Select(i => $"{i.Number} \"{i.Name}\"")) + ".");
        }
    }

    /// <summary>An archive that will be added to: it opens and may be written, or its folder is there and may be.</summary>
    /// <exception cref="VembarException">Neither.</exception>
    public static void CanAddTo(ArchiveLocation place, string? name)
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
            throw VembarException.Input("no-such-folder", $"there is no folder '{folder}' for the archive '{archive}'",
                "Check the path, or make the folder.");
        if (!MayWrite(folder))
            throw VembarException.Environment("no-permission",
                $"the folder '{folder}' cannot be written, so the archive '{archive}' cannot be made",
                "Choose another place, or run as a user who may write there.");
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
