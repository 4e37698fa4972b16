using Vembar.Images.Records;

namespace Vembar.Cli.Json;

internal sealed record ImageJson(string Archive, ImageRecord Image);
