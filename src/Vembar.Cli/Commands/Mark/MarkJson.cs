using Vembar.Images.Records;

namespace Vembar.Cli.Commands.Mark;

internal sealed record MarkJson(string Archive, ImageRecord Image, IReadOnlyList<string> Changes, IReadOnlyList<string> Warnings);
