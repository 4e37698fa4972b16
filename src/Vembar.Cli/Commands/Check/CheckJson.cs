using Vembar.Cli.Json;

namespace Vembar.Cli.Commands.Check;

internal sealed record CheckJson(string What, bool Ok, WindowsJson? Windows, IReadOnlyList<ExpectationJson> Expectations);
