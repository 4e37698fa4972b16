using Vembar.Common;
using Vembar.Images.Editing;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Operations.Sign;
using Vembar.Store.Reading;
using Vembar.Windows.Inspection;
using Vembar.Windows.Install;
using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Drivers;
using Vembar.Windows.Servicing.Files;
using Vembar.Windows.Servicing.FirstStart;
using Vembar.Windows.Servicing.Languages;
using Vembar.Windows.Servicing.Packages;
using Vembar.Windows.Servicing.Tidying;

namespace Vembar.Operations.Show;

/// <summary>Reads what an image holds.</summary>
public sealed class ShowHandler(OperationHost host) : IOperationHandler<ShowRequest, ShowResult>
{
    /// <summary>Reads an image's record, programs and drivers.</summary>
    /// <exception cref="VembarException">There is no such image, or it is damaged.</exception>
    public Task<ShowResult> HandleAsync(ShowRequest request, IProgress<OperationProgress> progress, CancellationToken cancellation) =>
        Task.Run(() => Show(request), cancellation);

    private ShowResult Show(ShowRequest request)
    {
        var (reference, lookIntoDrivers, planTidying) = request;
        using var archive = ArchiveReader.Open(reference.Archive, host.Files);
        var image = archive.Find(reference.Which, host.Clock);
        return Of(archive, image, new ImageTree(archive, image.Root, $"{reference.Archive}#{image.Number}"), lookIntoDrivers, planTidying);
    }

    /// <summary>What an image of an open archive holds.</summary>
    internal static ShowResult Of(ArchiveReader archive, ImageRecord image, ImageTree tree, bool lookIntoDrivers = false,
        bool planTidying = false)
    {
        if (WindowsInstall.FindFolder(tree) is not { } folder)
            return new ShowResult(archive.Path, image, null, null) { BadSignatures = BadSignatures(image) };
        var log = GeneralizeLog.Read(tree, folder);
        if (image.Firmware is null)
        {
            // Older programs did not note it.
            image = image with
            {
                Firmware = FirmwareFacts.Read(tree, folder, image.Architecture),
                VirtualOnly = log is null ? null : GeneralizeLog.IsVirtualOnly(log),
            };
        }
        var problems = new List<string>();
        // What is damaged is told, once for all that stumbles over it; the rest is shown.
        void Tell(string problem)
        {
            const int MostTold = 20;
            if (problems.Count < MostTold && !problems.Contains(problem))
                problems.Add(problem);
        }
        T? Sound<T>(Func<T?> read) where T : class
        {
            try
            {
                return read();
            }
            catch (VembarException problem) when (problem.Kind == ErrorKind.Input)
            {
                Tell(problem.Message);
                return null;
            }
        }
        var software = Sound(() => WindowsInstall.OpenHive(tree, folder, "SOFTWARE", Tell));
        var system = Sound(() => WindowsInstall.OpenHive(tree, folder, "SYSTEM", Tell));
        var drivers = system is null ? null : Sound(() => DriverDatabase.Read(system, inbox: lookIntoDrivers).ToLookup(d => d.IsAdded));
        return new ShowResult(
            archive.Path, image, software is null ? null : Sound(() => InstalledProgram.Read(software)),
            drivers is null ? null : [.. drivers[true]], lookIntoDrivers && drivers is not null ? [.. drivers[false]] : null)
        {
            DriverFiles = (lookIntoDrivers ? Sound(() => LookInto(tree)) : null) ?? [],
            Packages = Sound(() => InstalledPackage.Read(tree, WindowsPath.Root.Child(folder))),
            Locale = system is null ? null : Sound(() => LocaleSettings.Read(tree, system)),
            Apps = software is null ? null : Sound(() => ProvisionedApp.Read(software)),
            Tidy = planTidying ? Sound(() => PlanTidying(tree)) : null,
            FirstStart = Sound(() => FirstStartScript.Read(tree, WindowsPath.Root.Child(folder)).Commands),
            Generalized = log is null ? null : GeneralizeLog.Runs(log),
            BadSignatures = BadSignatures(image),
            Problems = problems,
        };
    }

    private static Dictionary<string, string> BadSignatures(ImageRecord image) => (image.Signatures ?? [])
        .Select(s => (s.Signer, Problem: ImageSigning.Problem(image, s, out _))).Where(s => s.Problem is not null)
        .DistinctBy(s => s.Signer).ToDictionary(s => s.Signer, s => s.Problem!);

    private static List<ChangeOutcome> PlanTidying(ImageTree tree)
    {
        // It is all done in the tree that is edited, which is then forgotten.
        var context = new ServiceContext(new TreeEditor(tree));
        return [.. new TidyChange([.. TidyRule.All.Select(r => r.Name)]).Apply(context)];
    }

    private static Dictionary<string, string> LookInto(ImageTree tree)
    {
        var context = new ServiceContext(new TreeEditor(tree)) { MayChange = false };
        return DriverStore.Open(context).Store is { } store ? store.Listed.ToDictionary(l => l.Inf, l => FilesOf(store, l)) : [];
    }

    private static string FilesOf(DriverStore store, ListedDriver listed)
    {
        if (store.Fit(listed) is not { } driver)
            return "its INF cannot be read";
        if (driver.MissingFiles is { Count: > 0 } missing)
            return $"missing: {string.Join(", ", missing)}";
        // Whose signature it is was settled when it was let in.
        var signature = DriverTrust.Nobody.Check(driver);
        return signature.State is SignatureState.WrongHash or SignatureState.BadCatalog or SignatureState.BadSignature ? signature.Why
            : "whole";
    }
}
