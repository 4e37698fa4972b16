namespace Vembar.Cli.Commands.Projects;

internal sealed record SiteImagesJson(string Name, IReadOnlyList<string> There, IReadOnlyList<string> Missing, IReadOnlyList<string> Extra,
    IReadOnlyList<string> Differing, IReadOnlyList<string> Damaged, IReadOnlyList<string> Marks);
