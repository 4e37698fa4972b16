using System.Globalization;
using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Operations.Copy;
using Vembar.Store.Places;
using Vembar.Store.Reading;

namespace Vembar.Operations.Builds;

/// <summary>What the steps of the last build made before its last one, so that a later step that changed does not have all before
/// it done again. It is an archive that stands on the recipe's: little more than folders and hives. What it lacks, because that one was
/// rewritten, is made anew.</summary>
/// <param name="host">Where archives are.</param>
/// <param name="folder">The folder of the recipe's runs.</param>
/// <param name="recipe">The recipe.</param>
internal sealed class KeptSteps(OperationHost host, string folder, Recipe recipe)
{
    private const int VersionLength = 40;

    private ArchiveLocation Place => new(BuildRun.KeptIn(folder), [recipe.Archive]);

    // They are found by what they depend on.
    private static string VersionOf(string inputs) => inputs[..Math.Min(inputs.Length, VersionLength)];

    /// <summary>Those that there are of some steps.</summary>
    /// <param name="inputs">What the steps depend on.</param>
    public IReadOnlySet<string> Find(IReadOnlyCollection<string> inputs)
    {
        if (!File.Exists(Place.Path))
            return new HashSet<string>();
        try
        {
            using var archive = ArchiveReader.Open(Place, host.Files);
            _ = archive.Bases;
            var versions = archive.Images.Select(i => i.Version).ToHashSet();
            return inputs.Where(i => versions.Contains(VersionOf(i))).ToHashSet();
        }
        catch (VembarException)
        {
            return new HashSet<string>();
        }
    }

    /// <summary>Puts what a step made into another archive.</summary>
    /// <returns>The number of the image there.</returns>
    /// <exception cref="VembarException">It is not whole any more.</exception>
    public Task<int> TakeAsync(string inputs, ArchiveLocation to, string version, IProgress<OperationProgress> progress,
        CancellationToken cancellation) => CopyAsync(Reference(inputs), to, version, progress, cancellation);

    private ImageReference Reference(string inputs) => new(Place, $"{recipe.ImageName}@{VersionOf(inputs)}");

    private async Task<int> CopyAsync(ImageReference from, ArchiveLocation to, string version, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var request = new CopyRequest(from, to, null, version, TimeSpan.Zero) { BasedOn = recipe.Archive };
        return (await new CopyHandler(host).HandleAsync(request, progress, cancellation).ConfigureAwait(false)).Image.Number;
    }

    /// <summary>Keeps what steps made, in the place of what was kept before.</summary>
    /// <param name="work">The archive in which they made it.</param>
    /// <param name="steps">The steps; what was kept of them before is kept on.</param>
    /// <param name="progress">Told how far it is.</param>
    /// <param name="cancellation">Ends it.</param>
    public async Task KeepAsync(ArchiveLocation work, IReadOnlyCollection<BuildStep> steps, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var made = $"{Place.Path}.new";
        File.Delete(made);
        var before = Find([.. steps.Select(s => s.Inputs)]);
        foreach (var step in steps)
        {
            var from = step.Image is { } number ? new ImageReference(work, number.ToString(CultureInfo.InvariantCulture))
                : before.Contains(step.Inputs) ? Reference(step.Inputs) : null;
            if (from is not null)
                await CopyAsync(from, new ArchiveLocation(made, [recipe.Archive]), VersionOf(step.Inputs), progress, cancellation)
                    .ConfigureAwait(false);
        }
        if (File.Exists(made))
            File.Move(made, Place.Path, overwrite: true);
        else
            File.Delete(Place.Path);
    }
}
