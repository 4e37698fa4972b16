using System.Text.Json;

namespace Vembar.Cli.Commands.Orders;

internal sealed record OrderSchemaJson(string? Out, JsonElement Schema);
