using Vembar.Operations.Report;

namespace Vembar.Cli.Commands.Report;

internal sealed record ReportSpaceJson(int Image, FolderSpace Folders, IReadOnlyList<ProgramSpace> Programs);
