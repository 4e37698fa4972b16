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

internal sealed record ShowJson(string Archive, ImageRecord Image, IReadOnlyList<InstalledProgram>? Programs, IReadOnlyList<DriverJson>? Drivers, IReadOnlyList<DriverJson>? InboxDrivers, IReadOnlyList<InstalledJson>? Packages, IReadOnlyList<FeatureJson>? Features, IReadOnlyList<FirstStartJson>? FirstStart,
    Vembar.Core.Servicing.Languages.LocaleSettings? Locale, IReadOnlyList<AppJson>? Apps, IReadOnlyList<ChangeJson>? Tidy, IReadOnlyList<string> Problems);
