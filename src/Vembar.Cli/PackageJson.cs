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

internal sealed record PackageJson(
    string Path, string Problem, string Class, string Provider, string Version, DateOnly? Date, IReadOnlyList<string> Architectures, int Devices, bool BootCritical, SignatureJson? Signature,
    IReadOnlyList<string> MissingFiles, string SameAs, string OlderThan, IReadOnlyList<string> LeftToWindows, long Bytes, IReadOnlyList<PackageDeviceJson> DeviceList, bool Primitive, string Inf);
