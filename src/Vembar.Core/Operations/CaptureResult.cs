using System.Diagnostics;
using Vembar.Core.Archives;
using Vembar.Core.Content;
using Vembar.Core.Sources;
using Vembar.Core.Trees;
using Vembar.Core.Windows;

namespace Vembar.Core.Operations;

/// <summary>What a capture did.</summary>
/// <param name="Archive">The archive.</param>
/// <param name="Image">The image as recorded.</param>
/// <param name="Stats">Figures.</param>
/// <param name="LeftOut">What was left out.</param>
/// <param name="Warnings">What should be known.</param>
public sealed record CaptureResult(string Archive, ImageRecord Image, StoreStats Stats, IReadOnlyList<LeftOut> LeftOut, IReadOnlyList<string> Warnings);
