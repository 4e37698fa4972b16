using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Store.Format;
using Vembar.Store.Hashing;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Vembar.Store.Writing;

namespace Vembar.Operations.History;

/// <summary>Tells the states of an archive and goes back to one.</summary>
public static class HistoryOperation
{
    /// <summary>The states since the archive was made or last rewritten, oldest first; also those that are damaged, as far as that lets
    /// them be found.</summary>
    /// <exception cref="VembarException">The archive cannot be opened at all.</exception>
    public static IReadOnlyList<ArchiveState> Run(string path) => Run(path, out _);

    /// <summary>As <see cref="Run(string)"/>.</summary>
    /// <param name="path">The archive.</param>
    /// <param name="problems">What hides states, and what is behind the last one; empty for nothing.</param>
    /// <exception cref="VembarException">The archive cannot be opened at all.</exception>
    public static IReadOnlyList<ArchiveState> Run(string path, out IReadOnlyList<string> problems)
    {
        using var archive = ArchiveReader.OpenToMend(path);
        var states = archive.States();
        var told = states.Where(s => s.Commit is null).Select(s => s.Problem).ToList();
        if (archive.IsNewerStateDamaged)
            told.Add($"a newer state behind state {archive.Sequence} of '{path}' is damaged; `vembar verify {path}` says what can be done");
        problems = told;
        var describe = new Describer(archive);
        return [.. states.Where(s => s.Commit is not null).Select(describe.Describe).Reverse()];
    }

    // Most states list the images of the one before.
    private sealed class Describer(ArchiveReader archive)
    {
        private readonly Dictionary<ChunkId, string> _names = [];

        public ArchiveState Describe(FormerState state)
        {
            var commit = state.Commit!;
            // What of the present one could not be read is known from opening it.
            var problem = state.Problem.Length == 0 && commit == archive.Commit ? string.Join("; ", archive.Problems) : state.Problem;
            return new ArchiveState(
                commit.Sequence, commit.Time, state.Catalogue?.Change ?? "",
                [.. (state.Catalogue?.Images ?? []).OrderBy(i => i.Number).Select(i => (i.Number, NameOf(i)))], commit.End, problem);
        }

        private string NameOf(CatalogueEntry entry)
        {
            if (_names.TryGetValue(entry.Record, out var name))
                return name;
            try
            {
                name = ImageCatalogue.Read(archive, entry).Name;
            }
            catch (VembarException problem) when (problem.Kind == ErrorKind.Damaged)
            {
                name = "";
            }
            return _names[entry.Record] = name;
        }
    }

    /// <summary>Makes an earlier state the present one, by a further state that lists what it did.</summary>
    /// <returns>The state as it was.</returns>
    /// <exception cref="VembarException">There is no such state, it is damaged, or the archive cannot be written.</exception>
    public static ArchiveState Rewind(string path, long number, TimeSpan wait, IFileSystem? fileSystem = null,
        CancellationToken cancellation = default)
    {
        using var writer = ArchiveWriter.OpenToMend(path, WriterPurpose.Rewind, new Mending(), wait, fileSystem, cancellation);
        var states = writer.Base.States();
        var found = states.FindIndex(s => s.Commit?.Sequence == number);
        if (found < 0)
        {
            throw VembarException.Input("no-such-state",
                $"'{path}' has no state {number}{(states[^1].Commit is null ? " that can be found" : "")}",
                Advice.Of("no-such-state"),
                [.. states.AsEnumerable().Reverse()
                .Select(s => s.Commit is null ? s.Problem : $"{s.Commit.Sequence}: {s.Catalogue?.Change ?? "damaged"}")]);
        }
        if (states[found].Catalogue is not { } catalogue)
            throw VembarException.Damaged($"state {number} of '{path}' cannot be gone back to: {states[found].Problem}",
                Advice.Of("other-state"));
        var described = new Describer(writer.Base).Describe(states[found]);
        if (found > 0 || writer.Base.IsIndexRebuilt)
        {
            // A number is never given again; each state whose list cannot be read may have given one.
            var next = states.Max(s => s.Catalogue?.NextNumber ?? 1) + states.Count(s => s.Catalogue is null);
            writer.CommitRewind(catalogue with { NextNumber = next }, $"rewind to {number}");
        }
        return described;
    }
}
