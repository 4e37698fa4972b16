using Vembar.Store.Hashing;

namespace Vembar.Cli.Commands.Orders;

internal sealed record OrderJson(string File, bool Ok, string Title, ChunkId Hash, IReadOnlyDictionary<string, string> Variables,
    IReadOnlyList<OrderFileJson> Files, IReadOnlyList<OrderProblemJson> Problems);
