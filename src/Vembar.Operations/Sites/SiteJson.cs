using System.Text.Json.Serialization;

namespace Vembar.Operations.Sites;

[JsonSerializable(typeof(SortedDictionary<string, DateTime>))]
internal sealed partial class SiteJson : JsonSerializerContext;
