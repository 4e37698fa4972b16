using Vembar.Cli.Json;
using Vembar.Images.Records;

namespace Vembar.Cli.Commands.Ready;

internal sealed record ReadyJson(string Source, int? Volume, string Verdict, WindowsJson? Windows, IReadOnlyList<Finding> Findings);
