using Vembar.Core.Archives;
using Vembar.Core.Content;
using Vembar.Core.Servicing.Drivers;
using Vembar.Core.Servicing.Packages;
using Vembar.Core.Trees;
using Vembar.Core.Windows;

namespace Vembar.Core.Operations;

/// <summary>Names that one image has and the other lacks.</summary>
/// <param name="Added">Only in the second.</param>
/// <param name="Removed">Only in the first.</param>
public sealed record ChangedNames(IReadOnlyList<string> Added, IReadOnlyList<string> Removed);
