using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Volumes.Sources;

namespace Vembar.Cli.Commands.UserData;

internal sealed record UserDataSaveJson(string Archive, ImageRecord Image, bool IsNew, StoreStats Stats,
    IReadOnlyList<ExcludedEntry> LeftOut, IReadOnlyList<string> Warnings, bool IsReadBack);
