using Vembar.Common;
using Vembar.Images.Editing;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Store.Reading;
using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Drivers;

namespace Vembar.Operations.Drivers;

/// <summary>Tells which driver each device of hardware models would get from packages at hand and from an image.</summary>
public sealed class CoverageHandler(OperationHost host) : IOperationHandler<CoverageRequest, CoverageResult>
{
    /// <summary>Compares.</summary>
    /// <exception cref="VembarException">The image cannot be read or has no driver database.</exception>
    public Task<CoverageResult> HandleAsync(CoverageRequest request, IProgress<OperationProgress> progress,
        CancellationToken cancellation) => Task.Run(() => Compare(request, cancellation), cancellation);

    private CoverageResult Compare(CoverageRequest request, CancellationToken cancellation)
    {
        var (paths, image, architecture, profiles, trust) = request;
        if (image is null)
            return Compare(paths, WindowsTarget.Newest(architecture), null, [], profiles, trust, cancellation);
        using var archive = ArchiveReader.Open(image.Archive, host.Files);
        var record = archive.Find(image.Which, host.Clock);
        var displayName = $"{archive.Path}#{record.Number}";
        var context = new ServiceContext(new TreeEditor(new ImageTree(archive, record.Root, displayName))) { MayChange = false };
        var (store, why) = DriverStore.Open(context);
        if (store is null)
            throw VembarException.Input("no-driver-store", $"'{displayName}': {why}", Advice.Of("no-driver-store"));
        var unsigned = (record.UnsignedDrivers ?? []).Select(u => u.Inf).ToHashSet(StringComparer.OrdinalIgnoreCase);
        var held = DriverDatabase.Read(context.Hive("SYSTEM")!, inbox: true).Where(l => l.Ids.Count > 0)
            .Select(l => CandidateDriver.Of(l, l.IsAdded ? store.Fit(l) : null, !unsigned.Contains(l.Inf))).ToList();
        return Compare(paths, store.Windows, store.Include, held, profiles, trust, cancellation);
    }

    private static CoverageResult Compare(IReadOnlyList<string> paths, WindowsTarget windows, Func<string, InfFile?>? include,
        List<CandidateDriver> held, IReadOnlyList<HardwareProfile> profiles, DriverTrust trust, CancellationToken cancellation)
    {
        var passed = new List<ChangeOutcome>();
        var candidates = new List<CandidateDriver>(held);
        foreach (var found in DriverFound.In(paths, windows, include, passed, cancellation))
        {
            if (found is { Status: ChangeStatus.Done, Driver: { } driver })
                candidates.Add(CandidateDriver.Of(driver, found.Found.DisplayName, trust.Check(driver).State == SignatureState.Signed));
            else
                passed.Add(new ChangeOutcome("driver", found.Found.DisplayName, found.Status, found.Why));
        }
        return new CoverageResult(windows, Coverage.Of(profiles, candidates), candidates.Count, passed);
    }
}
