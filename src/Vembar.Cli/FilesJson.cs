using Vembar.Images.Records;

namespace Vembar.Cli;

internal sealed record FilesJson(ImageRecord Image, IEnumerable<EntryJson> Entries);
