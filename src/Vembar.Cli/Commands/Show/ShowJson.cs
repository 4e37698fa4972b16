using Vembar.Cli.Json;
using Vembar.Images.Records;
using Vembar.Windows.Install;
using Vembar.Windows.Servicing.Languages;

namespace Vembar.Cli.Commands.Show;

internal sealed record ShowJson(string Archive, ImageRecord Image, IReadOnlyList<InstalledProgram>? Programs,
    IReadOnlyList<DriverJson>? Drivers, IReadOnlyList<DriverJson>? InboxDrivers, IReadOnlyList<InstalledJson>? Packages,
    IReadOnlyList<FeatureJson>? Features, IReadOnlyList<FirstStartJson>? FirstStart,
    LocaleSettings? Locale, IReadOnlyList<AppJson>? Apps, IReadOnlyList<ChangeJson>? Tidy, int? Generalized,
    IReadOnlyList<string> Problems);
