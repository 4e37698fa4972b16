namespace Vembar.Cli.Commands.Verify;

internal sealed record VerifyJson(string Archive, bool Ok, long Blocks, long Bytes, long LeftOver, double Seconds,
    IReadOnlyList<DamageJson> Damage, IReadOnlyList<DamageJson> Repaired, IReadOnlyList<string> Bases, int Images,
    IReadOnlyList<VerifiedSignatureJson>? Signatures);
