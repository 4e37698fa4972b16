using System.CommandLine;
using Vembar.Common;

namespace Vembar.Cli.Commands.Demo;

internal static class DemoCommand
{
    public static VembarCommand Create()
    {
        var folder = new Argument<string>("DIR")
        {
            Description = "A new or empty folder for the demo's world",
            Arity = ArgumentArity.ZeroOrOne,
            DefaultValueFactory = _ => "vembar-demo",
        };
        var scale = new Option<int>("--scale")
        {
            Description = "How large the installs are: 1 is about 1,000 files each",
            HelpName = "N",
            DefaultValueFactory = _ => 1,
            Validators = { result => { if (result.Tokens.Count == 1
            && !(int.TryParse(result.Tokens[0].Value, out var n) && n is >= 1 and <= 200))
            result.AddError($"--scale {result.Tokens[0].Value}: a number from 1 to 200 is wanted"); } },
        };
        var worldOnly = new Option<bool>("--world-only") { Description = "Make the world and stop" };
        var withoutDisks = new Option<bool>("--without-disks")
        {
            Description = "With --world-only: leave out the virtual disks, make the reference installs as folders alone",
        };
        var network = new Option<bool>("--network")
        {
            Description = "The story of a station and three machines that join it, instead; as root each is in a network of its own",
        };
        var emulated = new Option<bool>("--emulated")
        {
            Description = "With --network, as root: one more machine, bare and under QEMU, starts from the network; takes some minutes",
        };
        return new VembarCommand("demo", "Make a made-up library network and walk through the whole story with it", "vembar demo",
            "vembar demo /tmp/world --scale 4 --world-only", "vembar demo /tmp/network --network")
            .With(folder, scale, worldOnly, withoutDisks, network, emulated).Does(async (parse, session) =>
            {
                if (parse.GetValue(emulated) && !parse.GetValue(network))
                    throw new VembarException(ErrorKind.Usage, "option-alone", "--emulated is of the story that --network tells",
                        "Give --network with it.");
                if (parse.GetValue(network) && (parse.GetValue(worldOnly) || parse.GetValue(withoutDisks) || parse.GetResult(scale) is
                    { Implicit: false }))
                    throw new VembarException(ErrorKind.Usage, "network-alone", "--network takes no other option but --emulated",
                        "Leave the others out.");
                if (parse.GetValue(network))
                    return await NetworkStory.RunAsync(parse.GetRequiredValue(folder), parse.GetValue(emulated), session)
                        .ConfigureAwait(false);
                if (parse.GetValue(withoutDisks) && !parse.GetValue(worldOnly))
                    throw new VembarException(ErrorKind.Usage, "disks-needed", "the demo's story needs its disks",
                        "Give --world-only with --without-disks.");
                return await DemoStory.RunAsync(parse.GetRequiredValue(folder), parse.GetValue(scale), parse.GetValue(worldOnly),
                    !parse.GetValue(withoutDisks), session).ConfigureAwait(false);
            });
    }
}
