using System.CommandLine;
using Vembar.Common;
using Vembar.Operations.Files;

namespace Vembar.Cli.Commands.Take;

internal static class TakeCommand
{
    public static VembarCommand Create()
    {
        var image = SharedOptions.Image();
        var paths = new Argument<string[]>("PATH")
        {
            Description = "Files, folders or patterns in the image",
            Arity = ArgumentArity.ZeroOrMore,
        };
        var to = new Option<string>("--to")
        {
            Description = "The folder they go into, made when there is none; '-' prints one file",
            HelpName = "DIR|-",
            Required = true,
        };
        var listed = new Option<string?>("--paths-from")
        {
            Description = "Take what FILE names too, a path a line, as `files --paths` prints them; '-' reads standard input",
            HelpName = "FILE",
        };
        var statement = new Option<bool>("--statement")
        {
            Description = "Take what was signed of the image, and the signatures, for other programs to check",
        };
        return new VembarCommand("take", "Take files out of an image",
            "vembar take desks.vmb#1 \"Program Files/Tarn Valley/Shelfmark\" --to rescued",
            "vembar take desks.vmb#1 Windows/Panther/unattend.xml --to -", "vembar take desks.vmb#1 \"**/*.ini\" --to settings",
            "vembar files desks.vmb#1 Windows/INF --paths | vembar take desks.vmb#1 --paths-from - --to inf",
            "vembar take desks.vmb#1 --statement --to signed")
            .With(image, paths, listed, statement, to, SharedOptions.Base, SharedOptions.AtState).Does(async (parse, session) =>
            {
                var reference = SharedOptions.ImageOf(parse, image, session);
                string[] wanted = [.. parse.GetValue(paths) ?? [],
                    .. SharedOptions.LinesOf(parse.GetValue(listed)).Where(l => l.Length > 0)];
                var target = parse.GetRequiredValue(to);
                if (parse.GetValue(statement) == wanted.Length > 0)
                    throw new VembarException(ErrorKind.Usage, "path-or-statement", wanted.Length > 0
                        ? "--statement and paths exclude each other" : parse.GetValue(listed) is { } empty ? $"'{empty}' names no paths"
                        : "it was not said what to take", "Name paths in the image.");
                if (parse.GetValue(statement))
                {
                    if (target == "-")
                        throw new VembarException(ErrorKind.Usage, "one-file", "statement and signatures are several files",
                            "Name a folder with --to.");
                    var handed = await session.Do(new StatementHandler(session.Host), new StatementRequest(reference, target));
                    session.Result(new TakeJson(target, handed.Files, handed.Bytes, handed.Paths, []), json => json.TakeJson,
                        () => Session.Line($"{string.Join(", ", handed.Paths)} are in {target}. `openssl cms -verify -binary -inform "
                            + $"DER -in "
                            + "signature-1.p7s -content statement.json -CAfile AUTHORITY.pem -purpose any` checks them."));
                    return ExitCode.Done;
                }
                if (target == "-")
                {
                    if (wanted.Length != 1 || session.Json)
                        throw new VembarException(ErrorKind.Usage, "one-file",
                            session.Json ? "--to - prints a file, so it cannot print JSON" : "--to - prints one file; several were named",
                            "Name one, or a folder with --to.");
                    await session.Do(new PrintHandler(session.Host), new PrintRequest(reference, wanted[0], StandardStream.Output));
                    return ExitCode.Done;
                }
                var result = await session.Do(new TakeHandler(session.Host), new TakeRequest(reference, wanted, target));
                session.Warn(result.Warnings);
                session.Result(new TakeJson(target, result.Files, result.Bytes, result.Paths, result.Warnings), json => json.TakeJson,
                    () => Session.Line($"Took {Text.Count(result.Files, "file")}, {Text.Size(result.Bytes)}, to {target}."));
                return ExitCode.Done;
            });
    }
}
