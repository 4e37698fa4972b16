using Vembar.Core.Archives;
using Vembar.Core.Servicing;
using Vembar.Core.Servicing.Drivers;
using Vembar.Core.Servicing.Files;
using Vembar.Core.Servicing.FirstStart;
using Vembar.Core.Servicing.Languages;
using Vembar.Core.Servicing.Packages;
using Vembar.Core.Targets;
using Vembar.Core.Trees;
using Vembar.Core.Windows;

namespace Vembar.Core.Operations;

/// <summary>An entry with its path.</summary>
public sealed record FoundEntry(WindowsPath Path, TreeEntry Entry);
