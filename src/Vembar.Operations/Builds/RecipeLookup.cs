using Vembar.Common;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Store.Reading;
using Vembar.Windows.Install;

namespace Vembar.Operations.Builds;

/// <summary>Looks up what a recipe's built-in variables stand for.</summary>
/// <param name="host">Where archives are, and what day it is.</param>
public sealed class RecipeLookup(OperationHost host)
{
    private readonly Dictionary<string, string?> _builds = new(StringComparer.Ordinal);

    /// <summary>What a recipe is read with.</summary>
    /// <param name="variables">Texts for its variables.</param>
    /// <param name="archive">The archive where it names none; null for none.</param>
    /// <param name="version">The version where it names none; null for the next.</param>
    public RecipeOptions Options(IReadOnlyDictionary<string, string> variables, string? archive, string? version) => new()
    {
        Variables = variables,
        Today = host.Today,
        Archive = archive,
        BuildOf = BuildOf,
        NextVersion = (place, name) => version ?? Checks.NextVersion(place, name, host),
    };

    // Where that cannot be told, what comes next tells why.
    private string? BuildOf(string from)
    {
        if (_builds.TryGetValue(from, out var known))
            return known;
        try
        {
            if (Recipe.IsImage(from))
            {
                var reference = ImageReference.Parse(from);
                using var archive = ArchiveReader.Open(reference.Archive, host.Files);
                return _builds[from] = archive.Find(reference.Which, host.Clock).Build;
            }
            using var found = ResolvedSource.Open(from, null);
            return _builds[from] = WindowsInstall.Read(found.Source)?.Build;
        }
        catch (VembarException)
        {
            return _builds[from] = null;
        }
    }
}
