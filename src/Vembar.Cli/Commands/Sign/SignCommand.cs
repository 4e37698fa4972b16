using System.CommandLine;
using Vembar.Cli.Commands.Places;
using Vembar.Cli.Json;
using Vembar.Operations.Sign;

namespace Vembar.Cli.Commands.Sign;

internal static class SignCommand
{
    public static VembarCommand Create()
    {
        var image = SharedOptions.Image();
        var key = new Option<string>("--key") { Description = "The signer's key, PEM", HelpName = "FILE", Required = true };
        var certificate = new Option<string>("--certificate")
        {
            Description = "The signer's certificate, PEM",
            HelpName = "FILE",
            Required = true,
        };
        var wait = SharedOptions.Wait();
        return new VembarCommand("sign", "Sign an image: its root, name and version; the signature is kept in the archive. The password of "
            + "an encrypted key is asked for, or comes from VEMBAR_KEY_PASSWORD",
            "vembar sign desks.vmb#\"Reading room@2026.10\" --key signer-key.pem --certificate signer.pem",
            "vembar verify desks.vmb --signed-by signers")
            .With(image, key, certificate, wait).Does(async (parse, session) =>
            {
                var reference = SharedOptions.ImageOf(parse, image, session);
                var keyFile = parse.GetRequiredValue(key);
                var record = await session.Do(new SignHandler(session.Host), new SignRequest(reference, parse.GetRequiredValue(certificate),
                    keyFile, () => Environment.GetEnvironmentVariable("VEMBAR_KEY_PASSWORD")
                    ?? SecretPrompt.AskSecret($"Password of {keyFile}: "),
                    TimeSpan.FromSeconds(parse.GetValue(wait))));
                session.Result(new ImageJson(reference.Archive.Path, record), json => json.ImageJson, () => Session.Line(
                    $"Image {record.Number} {record.Title} of {reference.Archive} is signed by {string.Join(", ",
                    (record.Signatures ?? []).Select(s => s.Signer))}."));
                return ExitCode.Done;
            });
    }
}
