using System.Text.Json;

namespace Vembar.Cli;

internal sealed record OrderSchemaJson(string? Out, JsonElement Schema);
