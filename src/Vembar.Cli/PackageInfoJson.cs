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

internal sealed record PackageInfoJson(bool Ok, string Package, string Name, string Version, string Title, string Kind, IReadOnlyList<string> Requires, IReadOnlyList<string> Replaces, IReadOnlyList<FeatureJson> Features, int Files, IReadOnlyList<string> Problems);
