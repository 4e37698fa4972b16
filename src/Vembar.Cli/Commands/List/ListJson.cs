using Vembar.Cli.Json;
using Vembar.Images.Records;

namespace Vembar.Cli.Commands.List;

internal sealed record ListJson(string Archive, Guid Id, long Size, long LeftOver, IReadOnlyList<BaseJson> BasedOn,
    IReadOnlyList<ImageRecord> Images, IReadOnlyList<LostImage> Lost);
