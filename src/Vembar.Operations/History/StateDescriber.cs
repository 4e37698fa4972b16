using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Store.Format;
using Vembar.Store.Hashing;
using Vembar.Store.Reading;

namespace Vembar.Operations.History;

/// <summary>Tells what a state of an archive listed. Most states list the images of the one before, so names are kept.</summary>
/// <param name="archive">The archive.</param>
internal sealed class StateDescriber(ArchiveReader archive)
{
    private readonly Dictionary<ChunkId, (string Name, string Version)> _names = [];

    public ArchiveState Describe(FormerState state)
    {
        var commit = state.Commit!;
        // What of the present one could not be read is known from opening it.
        var problem = state.Problem.Length == 0 && commit == archive.Commit ? string.Join("; ", archive.Problems) : state.Problem;
        var images = (state.Catalogue?.Images ?? []).OrderBy(i => i.Number).Select(i => (i.Number, TitleOf(i).Name, TitleOf(i).Version));
        return new ArchiveState(commit.Sequence, commit.Time, state.Catalogue?.Change ?? "", [.. images], commit.End,
            state.Catalogue?.By ?? "", problem);
    }

    private (string Name, string Version) TitleOf(CatalogueEntry entry)
    {
        if (_names.TryGetValue(entry.Record, out var title))
            return title;
        try
        {
            var image = ImageCatalogue.Read(archive, entry);
            title = (image.Name, image.Version);
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Damaged)
        {
            title = ("", "");
        }
        return _names[entry.Record] = title;
    }
}
