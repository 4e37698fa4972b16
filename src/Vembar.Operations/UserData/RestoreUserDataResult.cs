using Vembar.Images.Records;

namespace Vembar.Operations.UserData;

/// <summary>What was put back.</summary>
/// <param name="Image">The image.</param>
/// <param name="Target">Where.</param>
/// <param name="Accounts">Whose files went where.</param>
/// <param name="Files">Files written.</param>
/// <param name="Bytes">Bytes of these.</param>
/// <param name="Kept">Files that were there already, and were left as they are.</param>
/// <param name="Differences">What reading back found; empty when all is as it should be.</param>
/// <param name="Warnings">What should be known.</param>
/// <param name="Seconds">Time taken.</param>
public sealed record RestoreUserDataResult(ImageRecord Image, string Target, IReadOnlyList<LaidAccount> Accounts, long Files, long Bytes,
    IReadOnlyList<string> Kept, IReadOnlyList<string> Differences, IReadOnlyList<string> Warnings, double Seconds);
