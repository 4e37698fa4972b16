using Vembar.Images.Records;

namespace Vembar.Cli.Commands.Drop;

internal sealed record DropJson(string Archive, ImageRecord Image, int ImagesLeft);
