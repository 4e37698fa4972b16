using System.CommandLine;
using System.Text.Json;
using Vembar.Common;
using Vembar.Operations;
using Vembar.Operations.Builds;

namespace Vembar.Cli.Commands.Builds;

internal static class RecipeCommand
{
    private const string Mark = "# How the image is made";

    public static VembarCommand Create()
    {
        var command = new VembarCommand("recipe", "Start recipes, check them, and describe their form to editors",
            "vembar recipe init vembar-demo/disks/lending-desk.qcow2 --name \"Lending desk\" --archive desks.vmb --out lending-desk.yaml",
            "vembar recipe check vembar-demo/recipes/reading-room.yaml", "vembar recipe schema --out recipe.schema.json");
        var file = new Argument<string>("RECIPE") { Description = "The recipe" };
        var variables = BuildCommand.Variables();
        command.Subcommands.Add(new VembarCommand("check", "Check a recipe: its form, its variables, and whether what it names is there",
            "vembar recipe check vembar-demo/recipes/reading-room.yaml").With(file, variables).Does((parse, session) =>
            {
                var recipe = BuildCommand.Read(parse.GetRequiredValue(file), parse.GetRequiredValue(variables), null, session);
                var missing = Missing(recipe, session);
                session.Result(new RecipeJson(recipe.Path, missing.Count == 0, recipe.Title, recipe.From, recipe.Archive, recipe.ImageName,
                    recipe.Version, recipe.Variables, [.. recipe.Service.Select(o => o.File)], missing), json => json.RecipeJson, () =>
                {
                    foreach (var path in missing)
                        Session.Line($"There is no '{path}'.");
                    var set = recipe.Variables.Count > 0
                        ? $"; {string.Join(", ", recipe.Variables.Select(v => $"{v.Key} is '{v.Value}'"))}" : "";
                    Session.Line($"{parse.GetRequiredValue(file)} (\"{recipe.Title}\") "
                        + (missing.Count == 0 ? "can be used"
                            : $"cannot be used, {Text.Count(missing.Count, "file")} missing") + $"{set}.");
                    if (missing.Count == 0)
                        Session.Line($"What it would do, 'vembar build {parse.GetRequiredValue(file)} --plan' tells.");
                });
                return missing.Count == 0 ? ExitCode.Done : ExitCode.NotInOrder;
            }));
        var to = new Option<string?>("--out") { Description = "Write it there; otherwise it is printed", HelpName = "FILE" };
        var from = new Argument<string>("FROM") { Description = "What it begins with: a disk, a folder, or an image" };
        var name = new Option<string>("--name") { Description = "The image's name", HelpName = "NAME", Required = true };
        var archive = new Option<string?>("--archive") { Description = "The archive; otherwise the project file's", HelpName = "ARCHIVE" };
        command.Subcommands.Add(new VembarCommand("init", "Write a recipe to start from",
            "vembar recipe init vembar-demo/disks/lending-desk.qcow2 --name \"Lending desk\" --archive desks.vmb --out lending-desk.yaml")
            .With(from, name, archive, to).Does((parse, session) => Init(parse.GetRequiredValue(from), parse.GetRequiredValue(name),
                parse.GetValue(archive), parse.GetValue(to), session)));
        command.Subcommands.Add(new VembarCommand("schema", "The JSON Schema of recipes: editors complete and check with it",
            "vembar recipe schema --out recipe.schema.json").With(to).Does((parse, session) =>
            {
                var text = RecipeSchema.Text();
                OutputFile.At(parse.GetValue(to), session, RecipeSchema.Title)?.Write(text);
                using var schema = JsonDocument.Parse(text);
                session.TextResult(new RecipeSchemaJson(parse.GetValue(to), schema.RootElement), json => json.RecipeSchemaJson,
                    parse.GetValue(to), text, written => Session.Line($"{written} is written. In a recipe, the line "
                        + $"'# yaml-language-server: $schema={written}' lets editors find it."));
                return ExitCode.Done;
            }));
        return command;
    }

    private static int Init(string from, string name, string? archive, string? to, Session session)
    {
        if (archive is null && session.Project?.Archive is null)
            throw new VembarException(ErrorKind.Usage, "no-archive", "no archive was named", "Name one with --archive, or write a project "
                + "file that does with `vembar init`.");
        if (!ImageReference.IsImage(from) && !Path.Exists(from))
            throw VembarException.Input("no-source", $"there is no '{from}'", "Check the path.");
        var folder = to is null ? Directory.GetCurrentDirectory() : Path.GetDirectoryName(Path.GetFullPath(to))!;
        string Beside(string path) => Path.GetRelativePath(folder, path);
        var split = from.IndexOf('#', StringComparison.Ordinal);
        var named = ImageReference.IsImage(from) && split > 0 ? $"{Beside(from[..split])}{from[split..]}"
            : ImageReference.IsImage(from) ? from : Beside(from);
        var text = RecipeDraft.Text(named, archive is null ? null : Beside(archive), name, isDisk: File.Exists(from));
        OutputFile.At(to, session, Mark)?.Write(text);
        session.TextResult(new RecipeDraftJson(to, text), json => json.RecipeDraftJson, to, text, written =>
            Session.Line($"{written} is written. Read it through, then: vembar recipe check {written}"));
        return ExitCode.Done;
    }

    private static List<string> Missing(Recipe recipe, Session session) =>
    [
        .. ((string?[])[recipe.IsFromImage ? null : recipe.From, recipe.Rules, recipe.Sign?.Key, recipe.Sign?.Certificate,
            recipe.Prepare?.Machine?.Answers, recipe.Prepare?.Machine?.Medium, .. recipe.Prepare?.Machine?.Files ?? [],
            .. recipe.Service.Select(o => o.File), .. recipe.Expect]).OfType<string>().Where(p => !Path.Exists(p)),
        .. recipe.IsFromImage && !session.Host.Files.Exists(ImageReference.Parse(recipe.From).Archive.Path) ? [recipe.From] : (string[])[],
    ];
}
