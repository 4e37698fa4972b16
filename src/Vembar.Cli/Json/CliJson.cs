using System.Text.Encodings.Web;
using System.Text.Json;
using System.Text.Json.Serialization;
using Vembar.Cli.Commands.Answers;
using Vembar.Cli.Commands.Builds;
using Vembar.Cli.Commands.Check;
using Vembar.Cli.Commands.Compact;
using Vembar.Cli.Commands.Demo;
using Vembar.Cli.Commands.Deploy;
using Vembar.Cli.Commands.Diff;
using Vembar.Cli.Commands.Drivers;
using Vembar.Cli.Commands.Drop;
using Vembar.Cli.Commands.Features;
using Vembar.Cli.Commands.Files;
using Vembar.Cli.Commands.Guide;
using Vembar.Cli.Commands.History;
using Vembar.Cli.Commands.List;
using Vembar.Cli.Commands.Mark;
using Vembar.Cli.Commands.Orders;
using Vembar.Cli.Commands.Packages;
using Vembar.Cli.Commands.Places;
using Vembar.Cli.Commands.Projects;
using Vembar.Cli.Commands.Ready;
using Vembar.Cli.Commands.Report;
using Vembar.Cli.Commands.Service;
using Vembar.Cli.Commands.Show;
using Vembar.Cli.Commands.Starters;
using Vembar.Cli.Commands.Survey;
using Vembar.Cli.Commands.Take;
using Vembar.Cli.Commands.UserData;
using Vembar.Cli.Commands.Verify;
using Vembar.Cli.Commands.Workspaces;
using Vembar.Operations.Builds;
using Vembar.Operations.Capture;
using Vembar.Operations.Drivers;
using Vembar.Operations.Stations.Contract;
using Vembar.Windows.Install;
using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Drivers;
using Vembar.Windows.Servicing.Packages;

namespace Vembar.Cli.Json;

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase, WriteIndented = true)]
[JsonSerializable(typeof(BuildRunJson))]
[JsonSerializable(typeof(BuildsCleanJson))]
[JsonSerializable(typeof(IReadOnlyList<BuildState>))]
[JsonSerializable(typeof(RecipeJson))]
[JsonSerializable(typeof(RecipeDraftJson))]
[JsonSerializable(typeof(RecipeSchemaJson))]
[JsonSerializable(typeof(ErrorJson))]
[JsonSerializable(typeof(MachineInfo))]
[JsonSerializable(typeof(WaveInfo))]
[JsonSerializable(typeof(IReadOnlyList<WaveInfo>))]
[JsonSerializable(typeof(IReadOnlyList<MachineInfo>))]
[JsonSerializable(typeof(MachineDetail))]
[JsonSerializable(typeof(IReadOnlyList<MachineEvent>))]
[JsonSerializable(typeof(IReadOnlyList<AuditEntry>))]
[JsonSerializable(typeof(IReadOnlyList<TokenInfo>))]
[JsonSerializable(typeof(NewToken))]
[JsonSerializable(typeof(ImportAnswer))]
[JsonSerializable(typeof(TaskOutcome))]
[JsonSerializable(typeof(ListJson))]
[JsonSerializable(typeof(ListsJson))]
[JsonSerializable(typeof(StoreJson))]
[JsonSerializable(typeof(ServiceJson))]
[JsonSerializable(typeof(ShowJson))]
[JsonSerializable(typeof(FilesJson))]
[JsonSerializable(typeof(TakeJson))]
[JsonSerializable(typeof(VerifyJson))]
[JsonSerializable(typeof(VersionJson))]
[JsonSerializable(typeof(ManPagesJson))]
[JsonSerializable(typeof(List<VerifyJson>))]
[JsonSerializable(typeof(MarkJson))]
[JsonSerializable(typeof(DropJson))]
[JsonSerializable(typeof(List<DropJson>))]
[JsonSerializable(typeof(CheckJson))]
[JsonSerializable(typeof(ExpectationDraftJson))]
[JsonSerializable(typeof(InitJson))]
[JsonSerializable(typeof(SitesJson))]
[JsonSerializable(typeof(SyncJson))]
[JsonSerializable(typeof(LoginJson))]
[JsonSerializable(typeof(CacheJson))]
[JsonSerializable(typeof(DeployJson))]
[JsonSerializable(typeof(SurveyJson))]
[JsonSerializable(typeof(ReadyJson))]
[JsonSerializable(typeof(HistoryJson))]
[JsonSerializable(typeof(ReportJson))]
[JsonSerializable(typeof(RewindJson))]
[JsonSerializable(typeof(ImageJson))]
[JsonSerializable(typeof(CompactJson))]
[JsonSerializable(typeof(DiffJson))]
[JsonSerializable(typeof(RecoverJson))]
[JsonSerializable(typeof(DriversJson))]
[JsonSerializable(typeof(FeaturesJson))]
[JsonSerializable(typeof(AnswersJson))]
[JsonSerializable(typeof(WorkspaceOpenJson))]
[JsonSerializable(typeof(WorkspaceStatusJson))]
[JsonSerializable(typeof(WorkspaceSaveJson))]
[JsonSerializable(typeof(WorkspaceCloseJson))]
[JsonSerializable(typeof(OrderJson))]
[JsonSerializable(typeof(OrderDraftJson))]
[JsonSerializable(typeof(OrderSchemaJson))]
[JsonSerializable(typeof(PackageInfoJson))]
[JsonSerializable(typeof(HardwareJson))]
[JsonSerializable(typeof(CoverageJson))]
[JsonSerializable(typeof(DemoJson))]
[JsonSerializable(typeof(StarterJson))]
[JsonSerializable(typeof(StarterListJson))]
[JsonSerializable(typeof(StarterCheckJson))]
[JsonSerializable(typeof(StarterImageJson))]
[JsonSerializable(typeof(UserDataListJson))]
[JsonSerializable(typeof(UserDataSaveJson))]
[JsonSerializable(typeof(UserDataRestoreJson))]
[JsonSerializable(typeof(UserDataRulesJson))]
internal sealed partial class CliJson : JsonSerializerContext
{
    static CliJson() => Default = new CliJson(new JsonSerializerOptions(Default.Options)
    {
        Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
    });

    public static StoreJson From(CaptureResult result, bool? verified) =>
        new(result.Archive, result.Image, result.Stats, result.Excluded, result.Warnings, verified);

    public static IReadOnlyList<ChangeJson> From(IEnumerable<ChangeOutcome> changes) =>
        [.. changes.Select(c => new ChangeJson(c.Kind, c.What, c.Status.ToString().ToLowerInvariant(),
            AdviceText.With(c.Why, c.Advice), c.Bytes, c.Seconds))];

    public static IReadOnlyList<DriverJson>? From(IReadOnlyList<ListedDriver>? drivers,
        IReadOnlyDictionary<string, string>? files = null) =>
        drivers is null ? null
        : [.. drivers.Select(d => new DriverJson(d.Inf, d.OriginalInf, d.StoreFolder, d.Provider, d.Version, d.Date, d.Services, d.Ids,
        files?.GetValueOrDefault(d.Inf)))];

    public static IReadOnlyList<InstalledJson>? From(IReadOnlyList<InstalledPackage>? packages) =>
        packages is null ? null
        : [.. packages.Select(p => new InstalledJson(p.Manifest.Name, PackageManifest.Show(p.Manifest.Version), p.Manifest.Title,
        KindOf(p.Manifest), p.ReplacedBy))];

    public static IReadOnlyList<FeatureJson>? Features(IReadOnlyList<InstalledPackage>? packages) =>
        packages is null ? null
        : [.. packages.Where(p => p.ReplacedBy is null)
        .SelectMany(p => p.Features.Select(f => new FeatureJson(f.Feature.Name, f.Feature.Title, f.Feature.Parent, p.Title, f.IsOn)))];

    public static string KindOf(PackageManifest manifest) => manifest.Kind.ToString().ToLowerInvariant();

    public static PackageInfoJson From(Package package, IReadOnlyList<string> problems) => new(
        problems.Count == 0, package.DisplayName, package.Manifest.Name, PackageManifest.Show(package.Manifest.Version),
        package.Manifest.Title, KindOf(package.Manifest), [.. package.Manifest.Requires.Select(r => r.ToString())],
        package.Manifest.Replaces,
        [.. package.Manifest.Features.Select(f => new FeatureJson(f.Name, f.Title, f.Parent, package.Manifest.Name, f.IsOn))],
        package.Manifest.Hashes.Count, problems);

    public static PackageJson From(DriverRow row) => new(
        row.Path, row.Problem, row.Class, row.Provider, row.Version, row.Date, row.Architectures, row.Devices, row.BootCritical,
        row.Signature is { } signature ? new SignatureJson(signature.Word, signature.Signer, signature.Stamped, signature.Why) : null,
        row.MissingFiles, row.SameAs, row.OlderThan, row.LeftToWindows, row.Bytes,
        [.. row.DeviceList.Select(d => new PackageDeviceJson(d.Description, d.Ids))], row.IsPrimitive, row.Inf);

    public static DeviceJson From(HardwareDevice device) =>
        new(device.Name, device.HardwareIds, device.CompatibleIds, device.Needed, device.Boot);

    public static CoverageJson From(CoverageResult result) =>
        new(result.IsInOrder, result.Windows.Architecture, result.Windows.Build, result.Drivers,
        [.. result.Models.Select(m => new ModelJson(m.Model,
        [.. m.Devices.Select(d => new CoveredJson(From(d.Device), d.Chosen is null ? null : From(d.Chosen, ""),
        [.. d.Others.Select(o => From(o, CoverageRow.Why(d, o)))], [.. d.Beside.Select(b => From(b, ""))]))]))],
        From(result.Passed));

    private static MatchJson From(DriverMatch match, string why) => new(
        match.Driver.Name, match.Driver.From, match.Driver.Provider, match.Driver.Version.ToString(), match.Driver.Date,
        match.Driver.IsSigned, match.Description, match.Id,
        match.Kind switch { 0 => "hardware", 1 => "hardware-to-compatible", 2 => "compatible-to-hardware", _ => "compatible" },
        match.FeatureScore, why);

    public static WindowsJson? From(WindowsInstall? install) =>
        install is null ? null
        : new WindowsJson(install.Product, install.Edition, install.InstallType, install.Build, install.Architecture, install.Languages,
        install.ComputerName, install.State);
}
