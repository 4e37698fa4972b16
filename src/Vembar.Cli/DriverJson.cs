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

internal sealed record DriverJson(string Inf, string OriginalInf, string StoreFolder, string Provider, string Version, DateOnly? Date, IReadOnlyList<string> Services, IReadOnlyList<string> Ids, string? Files);
