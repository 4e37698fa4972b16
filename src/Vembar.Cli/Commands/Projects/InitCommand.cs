using System.CommandLine;
using Vembar.Common;
using Vembar.Operations.Project;

namespace Vembar.Cli.Commands.Projects;

internal static class InitCommand
{
    public static VembarCommand Create()
    {
        var folder = new Argument<string>("DIR")
        {
            Description = "The folder that the file goes into",
            Arity = ArgumentArity.ZeroOrOne,
            DefaultValueFactory = _ => ".",
        };
        var archive = new Option<string>("--archive")
        {
            Description = "The archive that is meant where none is named",
            HelpName = "ARCHIVE",
            DefaultValueFactory = _ => "images.vmb",
        };
        var schema = new Option<bool>("--schema") { Description = "Print the JSON Schema of project files instead" };
        return new VembarCommand("init",
            $"Write a project file, {ProjectFile.FileName}: what all commands below its folder take for granted",
            "vembar init", "vembar init /srv/images --archive desks.vmb", "vembar init --schema > project.schema.json")
            .With(folder, archive, schema).Does((parse, session) =>
            {
                if (parse.GetValue(schema))
                {
                    var text = ProjectSchema.Text();
                    session.TextResult(new InitJson(null, text), json => json.InitJson, null, text, _ => { });
                    return ExitCode.Done;
                }
                var path = Path.Combine(parse.GetRequiredValue(folder), ProjectFile.FileName);
                if (!Directory.Exists(parse.GetRequiredValue(folder)))
                    throw VembarException.Input("no-such-folder", $"there is no folder '{parse.GetRequiredValue(folder)}'",
                        "Make it first.");
                var output = OutputFile.At(path, session)!;
                output.Write(ProjectDraft.Text(parse.GetRequiredValue(archive)));
                session.Result(new InitJson(path, null), json => json.InitJson, () => Session.Line(
                    $"{path} is written. All commands below that folder use it; change it to what holds for you."));
                return ExitCode.Done;
            });
    }
}
