using Vembar.Images.Records;

namespace Vembar.Cli;

internal sealed record ReadyJson(string Source, int? Volume, string Verdict, WindowsJson? Windows, IReadOnlyList<Finding> Findings);
