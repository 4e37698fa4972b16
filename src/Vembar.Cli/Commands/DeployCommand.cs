using System.CommandLine;
using Vembar.Core.Operations;

namespace Vembar.Cli.Commands;

internal static class DeployCommand
{
    public static VembarCommand Create()
    {
        var image = SharedOptions.Image();
        var target = new Argument<string>("TARGET") { Description = "The folder that the image goes into; made when there is none" };
        var keep = new Option<bool>("--keep-existing") { Description = "The folder may hold files; those are left as they are and named" };
        var answers = new Option<string?>("--answers") { Description = "Give this machine an answer file of its own", HelpName = "FILE" };
        var name = new Option<string?>("--computer-name") { Description = "The name that this machine's answer file gives it", HelpName = "NAME" };
        var verify = new Option<bool>("--verify") { Description = "Read everything back and compare" };
        return new VembarCommand("deploy", "Write an image into a folder",
            "vembar deploy desks.vmb#\"Lending desk\" /mnt/target --verify", "vembar deploy desks.vmb#1 /mnt/target --computer-name TVL-DESK-014 --keep-existing")
            .With(image, target, keep, answers, name, verify, SharedOptions.Base).Does((parse, session) =>
            {
                var result = DeployOperation.Run(
                    new DeployRequest
                    {
                        Image = SharedOptions.ImageOf(parse, image),
                        Target = parse.GetRequiredValue(target),
                        KeepExisting = parse.GetValue(keep),
                        Answers = parse.GetValue(answers),
                        ComputerName = parse.GetValue(name),
                        Verify = parse.GetValue(verify),
                    },
                    session.Progress, session.Cancellation);
                session.Warn(result.Warnings);
                session.Result(
                    new DeployJson(result.Image, result.Target, result.Files, result.Bytes, result.Seconds, [], result.Kept, result.Verified, result.Differences, result.Warnings),
                    CliJson.Default.DeployJson, () => Show(result));
                return result.Differences.Count > 0 ? ExitCode.NotInOrder : ExitCode.Done;
            });
    }

    private static void Show(DeployResult result)
    {
        Session.Line($"Image {result.Image.Number} \"{result.Image.Name}\" is in {result.Target}: {Text.Count(result.Files, "file")}, {Text.Size(result.Bytes)}, in {Text.Duration(result.Seconds)}.");
        if (result.Kept.Count > 0)
        {
            Session.Line($"Left as they were, because they were there ({Text.Number(result.Kept.Count)}):");
            foreach (var path in result.Kept)
                Session.Line($"  {path}");
        }
        if (result.Differences.Count > 0)
        {
            Session.Line($"Reading back found {Text.Count(result.Differences.Count, "difference")}:");
            foreach (var difference in result.Differences)
                Session.Line($"  {difference}");
        }
        else if (result.Verified)
            Session.Line("Read back and compared: all is as it is in the image.");
    }
}
