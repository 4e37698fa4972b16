using System.Text.Encodings.Web;
using System.Text.Json;
using System.Text.Json.Serialization;
using Vembar.Core.Archives;
using Vembar.Core.Compaction;
using Vembar.Core.Operations;
using Vembar.Core.Servicing;
using Vembar.Core.Servicing.Drivers;
using Vembar.Core.Servicing.Packages;
using Vembar.Core.Sources;
using Vembar.Core.Windows;

namespace Vembar.Cli;

internal sealed record DiffJson(ImageRecord From, ImageRecord To, bool Same, IReadOnlyList<string> Added, IReadOnlyList<string> Removed, IReadOnlyList<ChangedPath> Changed, IReadOnlyList<ChangedValue> Registry, ChangedNames? Programs, ChangedNames? Drivers, ChangedNames? Packages, ChangedNames? Features);
