using Vembar.Images.Records;

namespace Vembar.Cli.Commands.UserData;

internal sealed record UserDataListJson(string Archive, IReadOnlyList<ImageRecord> Images);
