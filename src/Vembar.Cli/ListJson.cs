using Vembar.Images.Records;

namespace Vembar.Cli;

internal sealed record ListJson(string Archive, Guid Id, long Size, long LeftOver, IReadOnlyList<BaseJson> BasedOn,
    IReadOnlyList<ImageRecord> Images, IReadOnlyList<LostImage> Lost);
