using System.Text.Json.Serialization;
using Vembar.Cli.Json;
using Vembar.Images.Records;

namespace Vembar.Cli.Commands.List;

internal sealed record ListJson(string Archive, Guid Id, long Size, long LeftOver, IReadOnlyList<BaseJson> BasedOn,
    IReadOnlyList<ImageRecord> Images, IReadOnlyList<LostImage> Lost, int Hidden)
{
    /// <summary>What is in the way of listing it; null when nothing is.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public ErrorBody? Error { get; init; }
}
