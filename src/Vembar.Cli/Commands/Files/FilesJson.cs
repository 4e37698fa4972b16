using Vembar.Images.Records;

namespace Vembar.Cli.Commands.Files;

internal sealed record FilesJson(ImageRecord Image, IEnumerable<EntryJson> Entries);
