using Vembar.Images.Records;
using Vembar.Operations.Diff;

namespace Vembar.Cli.Commands.Diff;

internal sealed record DiffJson(ImageRecord From, ImageRecord To, bool Same, IReadOnlyList<string> Added, IReadOnlyList<string> Removed,
    IReadOnlyList<ChangedPath> Changed, IReadOnlyList<ChangedValue> Registry, ChangedNames? Programs, ChangedNames? Drivers,
    ChangedNames? Packages, ChangedNames? Features);
