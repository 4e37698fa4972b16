using Vembar.Images.Records;
using Vembar.Operations.UserData;

namespace Vembar.Cli.Commands.UserData;

internal sealed record UserDataRestoreJson(ImageRecord Image, string Target, IReadOnlyList<LaidAccount> Accounts, long Files, long Bytes,
    IReadOnlyList<string> Kept, IReadOnlyList<string> Differences, IReadOnlyList<string> Warnings, double Seconds);
