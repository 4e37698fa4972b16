using System.Text.Encodings.Web;
using System.Text.Json;
using System.Text.Json.Serialization;
using Vembar.Core.Archives;
using Vembar.Core.Compaction;
using Vembar.Core.Operations;
using Vembar.Core.Servicing;
using Vembar.Core.Servicing.Drivers;
using Vembar.Core.Servicing.Packages;
using Vembar.Core.Sources;
using Vembar.Core.Windows;

namespace Vembar.Cli;

// The shapes that docs/json.md describes. Keys are never renamed or taken away.
internal sealed record ErrorBody(string Code, string Message, string Hint, IReadOnlyList<string> Details);
internal sealed record ErrorJson(ErrorBody Error);
internal sealed record BaseJson(Guid Id, string Name);

internal sealed record ListJson(string Archive, Guid Id, long Size, long LeftOver, IReadOnlyList<BaseJson> BasedOn, IReadOnlyList<ImageRecord> Images, IReadOnlyList<LostImage> Lost);
internal sealed record StoreJson(string Archive, ImageRecord Image, StoreStats Stats, IReadOnlyList<LeftOut> LeftOut, IReadOnlyList<string> Warnings, bool? Verified);
internal sealed record ChangeJson(string Kind, string What, string Status, string Why, long Bytes, double Seconds);
internal sealed record ServiceJson(string Archive, ImageRecord Image, bool Written, bool Plan, StoreStats Stats, IReadOnlyList<LeftOut> LeftOut, IReadOnlyList<string> Warnings, IReadOnlyList<ChangeJson> Changes);
internal sealed record DriverJson(string Inf, string OriginalInf, string StoreFolder, string Provider, string Version, DateOnly? Date, IReadOnlyList<string> Services, IReadOnlyList<string> Ids, string? Files);
internal sealed record ShowJson(string Archive, ImageRecord Image, IReadOnlyList<InstalledProgram>? Programs, IReadOnlyList<DriverJson>? Drivers, IReadOnlyList<DriverJson>? InboxDrivers, IReadOnlyList<InstalledJson>? Packages, IReadOnlyList<FeatureJson>? Features, IReadOnlyList<FirstStartJson>? FirstStart,
    Vembar.Core.Servicing.Languages.LocaleSettings? Locale, IReadOnlyList<AppJson>? Apps, IReadOnlyList<ChangeJson>? Tidy, IReadOnlyList<string> Problems);

internal sealed record AppJson(string Name, string Version, string FullName);
internal sealed record InstalledJson(string Name, string Version, string Title, string Kind, string? ReplacedBy);
internal sealed record FeatureJson(string Name, string Title, string Parent, string Package, bool On);
internal sealed record FirstStartJson(string Name, string Command, IReadOnlyList<int> Good);
internal sealed record FeaturesJson(ImageRecord Image, IReadOnlyList<FeatureJson> Features);
internal sealed record AnswerFindingJson(string Severity, int Line, string Text);
internal sealed record OrderFileJson(string Kind, string Path, bool IsThere);

internal sealed record OrderJson(string File, bool Ok, string Title, Vembar.Core.Content.ChunkId Hash, IReadOnlyDictionary<string, string> Variables, IReadOnlyList<OrderFileJson> Files, IReadOnlyList<OrderProblemJson> Problems);
internal sealed record OrderProblemJson(string Kind, string What, string Problem);

internal sealed record OrderDraftJson(string? WrittenTo, int Changes, int Remarks, string Text);
internal sealed record OrderSchemaJson(string? Out, JsonElement Schema);

internal sealed record WorkspaceOpenJson(string Folder, ImageRecord Image, long Files, long Bytes, double Seconds, IReadOnlyList<string> Warnings);

internal sealed record WorkspaceChangeJson(string Kind, string Path, string? From, IReadOnlyList<string> What, long Bytes);

internal sealed record WorkspaceStatusJson(
    string Folder, string Archive, ImageRecord Image, IReadOnlyList<string> Only, IReadOnlyList<WorkspaceChangeJson> Changes, IReadOnlyList<string> Problems, IReadOnlyList<string> Warnings, long FilesRead, double Seconds);

internal sealed record WorkspaceSaveJson(string Archive, ImageRecord Image, bool Written, long BytesStored, double Seconds, WorkspaceStatusJson Workspace);

internal sealed record WorkspaceCloseJson(string Folder, int Lost);

internal sealed record AnswersJson(string File, bool Ok, IReadOnlyList<AnswerFindingJson> Findings, int PasswordsHidden, string? WrittenTo);
internal sealed record PackageInfoJson(bool Ok, string Package, string Name, string Version, string Title, string Kind, IReadOnlyList<string> Requires, IReadOnlyList<string> Replaces, IReadOnlyList<FeatureJson> Features, int Files, IReadOnlyList<string> Problems);
internal sealed record SignatureJson(string State, string Signer, DateTime? Stamped, string Why);
internal sealed record PackageJson(
    string Path, string Problem, string Class, string Provider, string Version, DateOnly? Date, IReadOnlyList<string> Architectures, int Devices, bool BootCritical, SignatureJson? Signature,
    IReadOnlyList<string> MissingFiles, string SameAs, string OlderThan, IReadOnlyList<string> LeftToWindows, long Bytes, IReadOnlyList<PackageDeviceJson> DeviceList, bool Primitive, string Inf);
internal sealed record PackageDeviceJson(string Description, IReadOnlyList<string> Ids);
internal sealed record DriversJson(bool Ok, IReadOnlyList<PackageJson> Packages);
internal sealed record DeviceJson(string Name, IReadOnlyList<string> HardwareIds, IReadOnlyList<string> CompatibleIds, bool Needed, bool Boot);
internal sealed record HardwareJson(string Model, IReadOnlyList<DeviceJson> Devices, string? WrittenTo);
internal sealed record MatchJson(string Driver, string From, string Provider, string Version, DateOnly Date, bool Trusted, string Description, string Id, string IdKind, int FeatureScore, string Why);
internal sealed record CoveredJson(DeviceJson Device, MatchJson? Chosen, IReadOnlyList<MatchJson> Others, IReadOnlyList<MatchJson> Beside);
internal sealed record ModelJson(string Model, IReadOnlyList<CoveredJson> Devices);
internal sealed record CoverageJson(bool Ok, string Architecture, int Build, int Drivers, IReadOnlyList<ModelJson> Models, IReadOnlyList<ChangeJson> Passed);
internal sealed record StreamJson(string Name, long Bytes, string Hash);
internal sealed record EntryJson(string Path, string Kind, long Bytes, DateTime? Modified, IReadOnlyList<string> Attributes, string? Hash, string? LinkTarget, IReadOnlyList<StreamJson> Streams);
internal sealed record FilesJson(ImageRecord Image, IEnumerable<EntryJson> Entries);
internal sealed record TakeJson(string To, long Files, long Bytes, IReadOnlyList<string> Paths, IReadOnlyList<string> Warnings);
internal sealed record DamageJson(int? Image, string Path, string Problem);
internal sealed record VerifyJson(string Archive, bool Ok, long Blocks, long Bytes, long LeftOver, double Seconds, IReadOnlyList<DamageJson> Damage, IReadOnlyList<DamageJson> Repaired, IReadOnlyList<string> Bases, int Images);
internal sealed record RecoverJson(string Archive, string Recovered, IReadOnlyList<ImageRecord> Images, long Blocks, IReadOnlyList<DamageJson> Lost);
internal sealed record DropJson(string Archive, ImageRecord Image, int ImagesLeft);
internal sealed record StateImageJson(int Number, string Name);
internal sealed record StateJson(long Number, DateTime Time, string Change, long End, IReadOnlyList<StateImageJson> Images, string Problem);
internal sealed record HistoryJson(string Archive, IReadOnlyList<StateJson> States);
internal sealed record RewindJson(string Archive, StateJson State);
internal sealed record ImageJson(string Archive, ImageRecord Image);
internal sealed record CompactJson(string Archive, int Images, long BytesBefore, long Bytes, double Seconds);
internal sealed record DiffJson(ImageRecord From, ImageRecord To, bool Same, IReadOnlyList<string> Added, IReadOnlyList<string> Removed, IReadOnlyList<ChangedPath> Changed, IReadOnlyList<ChangedValue> Registry, ChangedNames? Programs, ChangedNames? Drivers, ChangedNames? Packages, ChangedNames? Features);
internal sealed record WrittenVolumeJson(int Number, string Role, long Start, long Bytes, string FileSystem, string Label);
internal sealed record DeployJson(ImageRecord Image, string Target, long Files, long Bytes, double Seconds, IReadOnlyList<WrittenVolumeJson> Volumes, IReadOnlyList<string> Kept, bool Verified, IReadOnlyList<string> Differences, IReadOnlyList<string> Warnings, long Resumed, CompactedCount Compacted);
internal sealed record WindowsJson(string Product, string Edition, string InstallType, string Build, string Architecture, IReadOnlyList<string> Languages, string ComputerName, string State);
internal sealed record DiskJson(string Scheme, string Format, long Bytes, int SectorSize);
internal sealed record VolumeJson(
    int Number, long Start, long Bytes, string FileSystem, string Label, long? BytesUsed, string Role, string Problem, WindowsJson? Windows, long? Files, long? BytesTaken, IReadOnlyList<LeftOut>? LeftOut, CompactedCount? Compacted);
internal sealed record SurveyJson(string Source, DiskJson? Disk, IReadOnlyList<VolumeJson> Volumes, IReadOnlyList<string> Warnings);
internal sealed record ReadyJson(string Source, int? Volume, string Verdict, WindowsJson? Windows, IReadOnlyList<Finding> Findings);
internal sealed record DemoJson(string Folder, long Files, long Bytes, double Seconds, bool Ok, IReadOnlyList<DemoCheckJson> Checks);
internal sealed record DemoCheckJson(string What, bool Ok, string Found);

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase, WriteIndented = true)]
[JsonSerializable(typeof(ErrorJson))]
[JsonSerializable(typeof(ListJson))]
[JsonSerializable(typeof(StoreJson))]
[JsonSerializable(typeof(ServiceJson))]
[JsonSerializable(typeof(ShowJson))]
[JsonSerializable(typeof(FilesJson))]
[JsonSerializable(typeof(TakeJson))]
[JsonSerializable(typeof(VerifyJson))]
[JsonSerializable(typeof(DropJson))]
[JsonSerializable(typeof(DeployJson))]
[JsonSerializable(typeof(SurveyJson))]
[JsonSerializable(typeof(ReadyJson))]
[JsonSerializable(typeof(HistoryJson))]
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
internal sealed partial class CliJson : JsonSerializerContext
{
    static CliJson() => Default = new CliJson(new JsonSerializerOptions(Default.Options) { Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping });

    public static StoreJson From(CaptureResult result, bool? verified) => new(result.Archive, result.Image, result.Stats, result.LeftOut, result.Warnings, verified);

    public static IReadOnlyList<ChangeJson> From(IEnumerable<ChangeOutcome> changes) => [.. changes.Select(c => new ChangeJson(c.Kind, c.What, c.Status.ToString().ToLowerInvariant(), c.Why, c.Bytes, c.Seconds))];

    public static IReadOnlyList<DriverJson>? From(IReadOnlyList<ListedDriver>? drivers, IReadOnlyDictionary<string, string>? files = null) =>
        drivers is null ? null : [.. drivers.Select(d => new DriverJson(d.Inf, d.OriginalInf, d.StoreFolder, d.Provider, d.Version, d.Date, d.Services, d.Ids, files?.GetValueOrDefault(d.Inf)))];

    public static IReadOnlyList<InstalledJson>? From(IReadOnlyList<InstalledPackage>? packages) =>
        packages is null ? null : [.. packages.Select(p => new InstalledJson(p.Manifest.Name, PackageManifest.Show(p.Manifest.Version), p.Manifest.Title, KindOf(p.Manifest), p.ReplacedBy))];

    public static IReadOnlyList<FeatureJson>? Features(IReadOnlyList<InstalledPackage>? packages) =>
        packages is null ? null : [.. packages.Where(p => p.ReplacedBy is null).SelectMany(p => p.Features.Select(f => new FeatureJson(f.Feature.Name, f.Feature.Title, f.Feature.Parent, p.Title, f.IsOn)))];

    public static string KindOf(PackageManifest manifest) => manifest.Kind.ToString().ToLowerInvariant();

    public static PackageInfoJson From(Package package, IReadOnlyList<string> problems) => new(
        problems.Count == 0, package.Shown, package.Manifest.Name, PackageManifest.Show(package.Manifest.Version), package.Manifest.Title, KindOf(package.Manifest), [.. package.Manifest.Requires.Select(r => r.ToString())], package.Manifest.Replaces,
        [.. package.Manifest.Features.Select(f => new FeatureJson(f.Name, f.Title, f.Parent, package.Manifest.Name, f.IsOn))], package.Manifest.Hashes.Count, problems);

    public static PackageJson From(DriverRow row) => new(
        row.Path, row.Problem, row.Class, row.Provider, row.Version, row.Date, row.Architectures, row.Devices, row.BootCritical,
        row.Signature is { } signature ? new SignatureJson(signature.Word, signature.Signer, signature.Stamped, signature.Why) : null, row.MissingFiles, row.SameAs, row.OlderThan, row.LeftToWindows, row.Bytes,
        [.. row.DeviceList.Select(d => new PackageDeviceJson(d.Description, d.Ids))], row.IsPrimitive, row.Inf);

    public static DeviceJson From(HardwareDevice device) => new(device.Name, device.HardwareIds, device.CompatibleIds, device.Needed, device.Boot);

    public static CoverageJson From(CoverageResult result) => new(result.IsInOrder, result.Windows.Architecture, result.Windows.Build, result.Drivers,
        [.. result.Models.Select(m => new ModelJson(m.Model, [.. m.Devices.Select(d => new CoveredJson(From(d.Device), d.Chosen is null ? null : From(d.Chosen, ""), [.. d.Others.Select(o => From(o, Commands.CoverageRow.Why(d, o)))], [.. d.Beside.Select(b => From(b, ""))]))]))], From(result.Passed));

    private static MatchJson From(DriverMatch match, string why) => new(
        match.Driver.Name, match.Driver.From, match.Driver.Provider, match.Driver.Version.ToString(), match.Driver.Date, match.Driver.IsSigned, match.Description, match.Id,
        match.Kind switch { 0 => "hardware", 1 => "hardware-to-compatible", 2 => "compatible-to-hardware", _ => "compatible" }, match.FeatureScore, why);

    public static WindowsJson? From(WindowsInstall? install) =>
        install is null ? null : new WindowsJson(install.Product, install.Edition, install.InstallType, install.Build, install.Architecture, install.Languages, install.ComputerName, install.State);
}
