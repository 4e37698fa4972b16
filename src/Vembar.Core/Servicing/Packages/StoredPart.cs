using System.Text.Json;
using System.Text.Json.Serialization;
using Vembar.Core.Content;
using Vembar.Core.Trees;
using Vembar.Core.Windows;

namespace Vembar.Core.Servicing.Packages;

/// <summary>A piece of such content.</summary>
internal sealed record StoredPart(bool Hole, ChunkId Id, long Length);
