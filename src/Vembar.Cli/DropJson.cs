using Vembar.Images.Records;

namespace Vembar.Cli;

internal sealed record DropJson(string Archive, ImageRecord Image, int ImagesLeft);
