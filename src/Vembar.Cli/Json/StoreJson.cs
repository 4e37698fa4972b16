using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Volumes.Sources;

namespace Vembar.Cli.Json;

internal sealed record StoreJson(string Archive, ImageRecord Image, StoreStats Stats, IReadOnlyList<ExcludedEntry> LeftOut,
    IReadOnlyList<string> Warnings, bool? Verified);
