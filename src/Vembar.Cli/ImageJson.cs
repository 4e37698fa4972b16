using Vembar.Images.Records;

namespace Vembar.Cli;

internal sealed record ImageJson(string Archive, ImageRecord Image);
