using Vembar.Images.Records;

namespace Vembar.Cli.Commands.Verify;

internal sealed record RecoverJson(string Archive, string Recovered, IReadOnlyList<ImageRecord> Images, long Blocks,
    IReadOnlyList<DamageJson> Lost);
