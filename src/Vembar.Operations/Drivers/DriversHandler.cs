using Vembar.Common;
using Vembar.Images.Editing;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Store.Reading;
using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Drivers;

namespace Vembar.Operations.Drivers;

/// <summary>Looks at driver packages outside of images.</summary>
public sealed class DriversHandler(OperationHost host) : IOperationHandler<DriversRequest, IReadOnlyList<DriverRow>>
{
    /// <summary>Lists every package found below some paths, and those that were added to an image.</summary>
    /// <exception cref="VembarException">A path is not there or holds no INF.</exception>
    public Task<IReadOnlyList<DriverRow>> HandleAsync(DriversRequest request, IProgress<OperationProgress> progress,
        CancellationToken cancellation) => Task.Run(() => List(request, progress, cancellation), cancellation);

    private IReadOnlyList<DriverRow> List(DriversRequest request, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var (paths, image, trust) = request;
        var rows = new List<DriverRow>();
        var packages = new Dictionary<int, (DriverPackage Package, string Content, IReadOnlyList<string> Ids)>();
        var damaged = new List<string>();
        using var archive = image is null ? null : ArchiveReader.Open(image.Archive, host.Files);
        var store = archive is null ? null : OpenStore(archive, image!);
        var found = paths.SelectMany(p => FoundInf.Find(p, damaged, cancellation)).DistinctBy(f => f.DisplayName).ToList();
        var given = found.Count;
        if (store is not null)
            found.AddRange(store.Listed.Select(l => store.Locate(l,
                $"{archive!.Path}#{archive.Find(image!.Which, host.Clock).Number}/{l.Inf}")));
        foreach (var inf in found)
        {
            cancellation.ThrowIfCancellationRequested();
            progress.Report(new OperationProgress("looking at drivers", rows.Count, found.Count, false, inf.DisplayName));
            var row = new DriverRow { Path = inf.DisplayName };
            try
            {
                var package = DriverPackage.Read(inf);
                // What an image holds is there for its Windows alone.
                var fitted = rows.Count >= given ? [package.For(store!.Windows, store.Include)]
                    : package.Architectures.Select(a => package.For(WindowsTarget.Newest(a))).ToList();
                row = Describe(row, package, fitted, trust, out var content, out var ids);
                if (rows.Count >= given)
                    row = row with { Devices = fitted[0].Devices.Count };
                packages[rows.Count] = (package, content, ids);
            }
            catch (VembarException problem) when (problem.Kind is ErrorKind.Input or ErrorKind.Environment)
            {
                row = row with { Problem = problem.Message };
            }
            rows.Add(row);
        }
        var lines = packages.ToLookup(p => p.Value.Package.Line);
        foreach (var (at, (package, content, ids)) in packages)
        {
            var line = lines[package.Line].ToList();
            var same = line.FirstOrDefault(p => p.Key < at && p.Value.Content == content);
            var newest = line.Where(p => p.Value.Package.IsNewerThan(package.Date, package.Version)
                && DriverVersions.Covers(p.Value.Ids, ids, new HashSet<string>()))
                .Select(p => (int?)p.Key).MaxBy(k => (packages[k!.Value].Package.Date, packages[k.Value].Package.Version));
            rows[at] = rows[at] with
            {
                SameAs = same.Value.Package is not null ? rows[same.Key].Path : "",
                OlderThan = newest is { } key ? rows[key].Path : "",
            };
        }
        rows.AddRange(damaged.Select(d => new DriverRow { Path = d.Split('\'') is [_, var file, ..] ? file : "", Problem = d }));
        return rows;
    }

    private DriverStore OpenStore(ArchiveReader archive, ImageReference image)
    {
        var record = archive.Find(image.Which, host.Clock);
        var displayName = $"{archive.Path}#{record.Number}";
        var context = new ServiceContext(new TreeEditor(new ImageTree(archive, record.Root, displayName))) { MayChange = false };
        var (store, why) = DriverStore.Open(context);
        return store ?? throw VembarException.Input("no-driver-store", $"'{displayName}': {why}", "Name an image of Windows 8 or later.");
    }

    private static DriverRow Describe(DriverRow row, DriverPackage package, List<FittedDriver> fitted, DriverTrust trust,
        out string content, out IReadOnlyList<string> ids)
    {
        var files = fitted.SelectMany(f => f.Files).Distinct(StringComparer.OrdinalIgnoreCase).ToList();
        ids = [.. fitted.SelectMany(DriverVersions.IdsOf).Distinct(StringComparer.OrdinalIgnoreCase)];
        var signatures = fitted.Where(f => f.Devices.Count > 0 || f.IsPrimitive).Select(trust.Check).ToList();
        var missing = fitted.SelectMany(f => f.MissingFiles).Distinct(StringComparer.OrdinalIgnoreCase).ToList();
        content = missing.Count == 0 ? string.Join('|', fitted.Select(f => f.StoreFolder())) : package.Inf.DisplayName;
        return row with
        {
            Inf = package.InfName,
            Class = package.Class,
            Provider = package.Provider,
            Version = package.Version.ToString(),
            Date = package.Date == default ? null : package.Date,
            Architectures = [.. package.Architectures.Intersect(fitted.Select(f => f.Windows.Architecture))],
            Devices = package.DeviceCount,
            DeviceList = [.. fitted.SelectMany(f => f.Devices)
            .DistinctBy(d => string.Join('|', d.Ids.Prepend(d.Description)), StringComparer.OrdinalIgnoreCase)
                .Select(d => (d.Description, d.Ids))],
            BootCritical = fitted.Any(f => (f.Devices.Count > 0 || f.IsPrimitive) && f.IsBootCritical),
            // The worst of what its architectures have counts.
            Signature = signatures.OrderBy(s => s.State == SignatureState.Signed).FirstOrDefault(),
            MissingFiles = missing,
            LeftToWindows = [.. fitted.SelectMany(f => f.LeftToWindows).Distinct()],
            Bytes = files.Sum(f => package.Folder.Length(f) ?? 0),
            IsPrimitive = fitted.Any(f => f.IsPrimitive),
            Problem = package.DeviceCount == 0 && !fitted.Any(f => f.IsPrimitive) ? "it is for no device" : "",
        };
    }
}
