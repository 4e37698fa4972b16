using Vembar.Cli.Json;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Volumes.Sources;

namespace Vembar.Cli.Commands.Service;

internal sealed record ServiceJson(string Archive, ImageRecord Image, bool Written, bool Plan, StoreStats Stats,
    IReadOnlyList<ExcludedEntry> LeftOut, IReadOnlyList<string> Warnings, IReadOnlyList<ChangeJson> Changes);
