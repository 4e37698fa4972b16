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

/// <summary>What was taken out.</summary>
/// <param name="Files">How many files and links.</param>
/// <param name="Bytes">How many bytes.</param>
/// <param name="Paths">What was taken, at the top.</param>
/// <param name="Warnings">What should be known.</param>
public sealed record TakeResult(long Files, long Bytes, IReadOnlyList<string> Paths, IReadOnlyList<string> Warnings);
