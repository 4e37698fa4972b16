using System.Diagnostics;
using Vembar.Core.Archives;
using Vembar.Core.Content;
using Vembar.Core.Sources;
using Vembar.Core.Targets;
using Vembar.Core.Trees;
using Vembar.Core.Windows;
using Vembar.Core.Workspaces;

namespace Vembar.Core.Operations;

/// <summary>What laying an image open did.</summary>
/// <param name="Folder">The workspace.</param>
/// <param name="Image">The image.</param>
/// <param name="Files">Files and links laid.</param>
/// <param name="Bytes">Their bytes.</param>
/// <param name="Seconds">Time taken.</param>
/// <param name="Warnings">What should be known.</param>
public sealed record WorkspaceOpened(string Folder, ImageRecord Image, long Files, long Bytes, double Seconds, IReadOnlyList<string> Warnings);
