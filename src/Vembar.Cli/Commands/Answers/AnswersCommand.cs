using System.CommandLine;
using System.Text;
using Vembar.Common;
using Vembar.Common.Files;
using Vembar.Operations;
using Vembar.Operations.Show;
using Vembar.Windows.Servicing.Answers;

namespace Vembar.Cli.Commands.Answers;

internal static class AnswersCommand
{
    public static VembarCommand Create()
    {
        var command = new VembarCommand("answers", "Check answer files, and make them from short profiles",
            "vembar answers check vembar-demo/answers/lending-desk.xml --image desks.vmb#1",
            "vembar answers make vembar-demo/answers/bookmobile.yaml --out bookmobile.xml");
        var file = new Argument<string>("FILE") { Description = "The answer file" };
        var image = new Option<string?>("--image") { Description = "Check it for this image: its architecture", HelpName = "IMAGE" };
        var hide = new Option<string?>("--hide")
        {
            Description = "Write a copy whose passwords are hidden; that does not protect them",
            HelpName = "COPY",
        };
        command.Subcommands.Add(new VembarCommand("check",
            "Check an answer file: its form, passes, components, settings, values, passwords",
            "vembar answers check vembar-demo/answers/lending-desk.xml")
            .With(file, image, hide, SharedOptions.Base, SharedOptions.AtState).Does(async (parse, session) =>
            {
                var path = parse.GetRequiredValue(file);
                var output = OutputFile.At(parse.GetValue(hide), session);
                var bytes = Read(path);
                if (!IsXml(bytes) && Path.GetExtension(path) is ".yaml" or ".yml")
                    throw VembarException.Input("is-a-profile", $"'{path}' is a profile and no answer file",
                        "Make an answer file of it with 'vembar answers make', which checks it as well.");
                var answers = AnswerFile.Parse(bytes, path);
                var architecture = parse.GetValue(image) is { } which
                    ? (await session.Do(new RecordHandler(session.Host),
                        SharedOptions.ImageOf(which, parse, session)))
                    .Architecture : null;
                var findings = answers.Check(architecture);
                var hidden = 0;
                if (output is not null)
                {
                    hidden = answers.HidePasswords();
                    output.Write(Encoding.UTF8.GetString(answers.ToBytes()));
                }
                var ok = !findings.Any(f => f.IsError);
                session.Result(new AnswersJson(path, ok,
                    [.. findings.Select(f => new AnswerFindingJson(f.IsError ? "stop" : "warn", f.Line,
                        AdviceText.With(f.Text, f.Advice)))], hidden,
                    parse.GetValue(hide)), json => json.AnswersJson, () =>
                {
                    if (findings.Count > 0)
                    {
                        var table = new Table("!Severity", ">Line", "Finding");
                        foreach (var finding in findings.OrderByDescending(f => f.IsError).ThenBy(f => f.Line))
                            table.Row(finding.IsError ? "stop" : "warn", finding.Line > 0 ? Text.Number(finding.Line) : "",
                                AdviceText.With(finding.Text, finding.Advice));
                        table.Print(session);
                        Session.Line();
                    }
                    var forImage = architecture is null ? "" : $" for the image ({architecture})";
                    Session.Line(ok ? $"{path} can be used{forImage}."
                        : $"{path} cannot be used as it is.");
                    if (parse.GetValue(hide) is { } written)
                        Session.Line($"{written}: {Text.Count(hidden, "password")} hidden. Hidden is not protected: whoever has the "
                            + $"file can read them.");
                });
                return ok ? ExitCode.Done : ExitCode.NotInOrder;
            }));
        var profile = new Argument<string>("PROFILE") { Description = "A short profile in YAML" };
        var to = new Option<string?>("--out") { Description = "Write the answer file there; otherwise it is printed", HelpName = "FILE" };
        command.Subcommands.Add(new VembarCommand("make", "Make an answer file from a short profile: names, accounts, language, domain, "
            + "commands", "vembar answers make vembar-demo/answers/bookmobile.yaml --out bookmobile.xml")
            .With(profile, to).Does((parse, session) =>
            {
                var path = parse.GetRequiredValue(profile);
                var output = OutputFile.At(parse.GetValue(to), session);
                if (IsXml(Read(path)))
                    throw VembarException.Input("is-an-answer-file", $"'{path}' is an answer file already, and no profile",
                        "Check it with 'vembar answers check'.");
                var answers = AnswerProfile.Make(path);
                var text = Encoding.UTF8.GetString(answers.ToBytes());
                output?.Write(text);
                var findings = answers.Check(null);
                session.TextResult(new AnswersJson(path, true,
                    [.. findings.Select(f => new AnswerFindingJson(f.IsError ? "stop" : "warn", f.Line,
                        AdviceText.With(f.Text, f.Advice)))], 0, parse.GetValue(to)),
                    json => json.AnswersJson, parse.GetValue(to), text + "\n", written =>
                {
                    Session.Line($"{written} is made from {path}.");
                    if (findings.Any(f => f.Text.Contains("password", StringComparison.Ordinal)))
                        Session.Line("It holds passwords. Hidden is not protected: whoever has the file can read them.");
                });
                return ExitCode.Done;
            }));
        return command;
    }

    // With or without a mark in front, in bytes or in units of UTF-16.
    private static bool IsXml(byte[] bytes) =>
        bytes.AsSpan().TrimStart((ReadOnlySpan<byte>)[0xEF, 0xBB, 0xBF, 0xFF, 0xFE, 0, (byte)' ', (byte)'\t', (byte)'\r',
        (byte)'\n']) is [(byte)'<', ..];

    private static byte[] Read(string path)
    {
        try
        {
            return InputFile.ReadAllBytes(path);
        }
        catch (Exception failure) when (VembarException.From(failure, "read", path) is { } error)
        {
            throw error;
        }
    }
}
