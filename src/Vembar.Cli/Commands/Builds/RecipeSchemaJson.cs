using System.Text.Json;

namespace Vembar.Cli.Commands.Builds;

internal sealed record RecipeSchemaJson(string? Out, JsonElement Schema);
