using System.CommandLine;
using Vembar.Cli.Json;
using Vembar.Operations;
using Vembar.Operations.History;

namespace Vembar.Cli.Commands.Retitle;

internal static class RetitleCommand
{
    public static VembarCommand Create()
    {
        var image = SharedOptions.Image();
        var name = new Option<string?>("--name") { Description = "The new name", HelpName = "NAME" };
        var version = new Option<string?>("--version") { Description = "The new version", HelpName = "TEXT" };
        var edition = new Option<string?>("--edition") { Description = "The new edition", HelpName = "TEXT" };
        var note = new Option<string?>("--note") { Description = "The new remark", HelpName = "TEXT" };
        var labels = new Option<string[]>("--label")
        {
            Description = "Set a label; an empty value takes it away; may be given several times",
            HelpName = "KEY=VALUE",
            DefaultValueFactory = _ => [],
        };
        var wait = SharedOptions.Wait();
        return new VembarCommand("retitle", "Change name, version, edition, remark and labels of an image",
            "vembar retitle desks.vmb#1 --name \"Lending desk, pilot\" --version 2026.10",
            "vembar retitle desks.vmb#2 --label site= --label ring=pilot")
            .With(image, name, version, edition, note, labels, wait).Does(async (parse, session) =>
            {
                var reference = SharedOptions.ImageOf(parse, image, session);
                var record = await session.Do(new RetitleHandler(session.Host), new RetitleRequest
                {
                    Image = reference,
                    Name = parse.GetValue(name),
                    Version = parse.GetValue(version),
                    Edition = parse.GetValue(edition),
                    Note = parse.GetValue(note),
                    Labels = SharedOptions.Pairs(parse.GetRequiredValue(labels), "--label", "KEY=VALUE"),
                    Wait = TimeSpan.FromSeconds(parse.GetValue(wait)),
                });
                session.Result(new ImageJson(reference.Archive.Path, record), json => json.ImageJson,
                    () => Session.Line($"Image {record.Number} of {reference.Archive} is now {record.Title}."));
                return ExitCode.Done;
            });
    }
}
