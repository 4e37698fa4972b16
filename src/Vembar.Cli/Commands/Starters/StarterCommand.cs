using System.CommandLine;
using Vembar.Cli.Json;
using Vembar.Operations.Starters;

namespace Vembar.Cli.Commands.Starters;

internal static class StarterCommand
{
    public static VembarCommand Create()
    {
        var command = new VembarCommand("starter",
            "Make and look at what bare machines start: a kernel and an initial file system with which they join a station; see "
            + "`vembar help starters`",
            "vembar starter make starters/2026.11 --version 2026.11 --station https://station.example:8470 --authority authority.pem",
            "vembar starter check starters/2026.11 --for hardware", "vembar starter list starters");
        command.Subcommands.Add(Make());
        command.Subcommands.Add(List());
        command.Subcommands.Add(Show());
        command.Subcommands.Add(Check());
        command.Subcommands.Add(Image());
        command.Subcommands.Add(Use());
        return command;
    }

    private static Argument<string> Folder(string description) => new("DIR") { Description = description };

    private static Option<string?> Text(string name, string help, string description) => new(name)
    {
        Description = description,
        HelpName = help,
    };

    private static VembarCommand Make()
    {
        var output = new Argument<string>("OUT") { Description = "The folder to make" };
        var name = new Option<string>("--name")
        {
            Description = "What it is called",
            HelpName = "NAME",
            DefaultValueFactory = _ => "starter",
        };
        var version = Text("--version", "TEXT", "Its version; else the day");
        var kernel = Text("--kernel", "PACKAGE", "The package of the kernel; else Debian's newest");
        var station = Text("--station", "URL", "The station that it joins; else the one that the kernel's command line names");
        var authority = Text("--authority", "FILE", "The station's authority (authority.pem): the only one that it trusts");
        var tools = Text("--tools", "FOLDER", "A folder of tools of your own, to /opt/tools");
        var script = Text("--script", "FILE", "A script of your own, run before the machine joins");
        var firmware = Text("--firmware", "FOLDER", "A folder of firmware files, as the kernel asks for them");
        var only = new Option<string[]>("--only")
        {
            Description = "Modules for the devices of this hardware profile alone; may be given several times, or a folder of profiles",
            HelpName = "PROFILE",
            DefaultValueFactory = _ => [],
        };
        return new VembarCommand("make", "Make a starter of Debian's packages, which apt gets and nobody installs",
            "vembar starter make starters/2026.11 --version 2026.11 --station https://station.example:8470 --authority authority.pem",
            "vembar starter make small --only hardware/oakmere-m4.yaml --only hardware/wharf-11.yaml",
            "vembar starter make odd --kernel linux-image-6.1.0-56-amd64 --firmware firmware --script before.sh")
            .With(output, name, version, kernel, station, authority, only, firmware, tools, script).Does(async (parse, session) =>
            {
                var made = await session.Do(new MakeStarterHandler(session.Host), new MakeStarterRequest
                {
                    Output = parse.GetRequiredValue(output),
                    Name = parse.GetRequiredValue(name),
                    Version = parse.GetValue(version),
                    Kernel = parse.GetValue(kernel),
                    Program = AppContext.BaseDirectory,
                    Station = parse.GetValue(station)?.TrimEnd('/'),
                    Authority = parse.GetValue(authority),
                    Tools = parse.GetValue(tools),
                    Script = parse.GetValue(script),
                    Firmware = parse.GetValue(firmware),
                    Only = parse.GetRequiredValue(only),
                    Cache = CacheFolder(),
                });
                session.Warn(made.Warnings);
                session.Result(Json(made.Starter, made.Warnings), json => json.StarterJson, () =>
                {
                    Session.Line($"{made.Starter.Manifest.Name} {made.Starter.Manifest.Version} is in {parse.GetRequiredValue(output)}: "
                        + $"{Cli.Text.Size(made.Bytes)}, made in {Cli.Text.Duration(made.Seconds)}.");
                    Session.Line();
                    Show(made.Starter);
                });
                return ExitCode.Done;
            });
    }

    private static string CacheFolder() =>
        Path.Combine(Environment.GetEnvironmentVariable("XDG_CACHE_HOME") is { Length: > 0 } cache ? cache
        : Path.Combine(Environment.GetEnvironmentVariable("HOME") ?? "/tmp", ".cache"), "vembar", "packages");

    private static StarterJson Json(Starter starter, IReadOnlyList<string> warnings) =>
        new(starter.Folder, starter.Manifest, starter.Manifest.Files.Sum(f => f.Bytes), warnings);

    private static void Show(Starter starter)
    {
        var manifest = starter.Manifest;
        void Field(string name, string value)
        {
            if (value.Length > 0)
                Session.Line($"  {name,-10} {value}");
        }
        Field("Kernel", manifest.Kernel);
        Field("Program", $"vembar {manifest.Program}");
        Field("Station", manifest.Station);
        Field("For", manifest.Models.Count == 0 ? "all hardware that the kernel knows" : string.Join(", ", manifest.Models));
        Field("Modules", Cli.Text.Number(manifest.Modules.Count));
        Field("Firmware", manifest.Firmware.Count == 0 ? "" : Cli.Text.Count(manifest.Firmware.Count, "file"));
        Field("Packages", string.Join(", ", manifest.Packages.Where(p => !p.Name.StartsWith("lib", StringComparison.Ordinal))
            .Select(p => $"{p.Name} {p.Version}")));
        foreach (var file in manifest.Files)
            Field(file.Name, Cli.Text.Size(file.Bytes));
    }

    private static VembarCommand List()
    {
        var folder = Folder("A folder with starters in it");
        return new VembarCommand("list", "List the starters in a folder", "vembar starter list starters").With(folder)
            .Does((parse, session) =>
            {
                var all = Starter.All(parse.GetRequiredValue(folder));
                var inUse = StarterChannels.Read(parse.GetRequiredValue(folder));
                session.Result(new StarterListJson([.. all.Select(s => Json(s, []) with { Channels = inUse.Of(all, s) })]), json =>
                    json.StarterListJson, () =>
                {
                    if (all.Count == 0)
                    {
                        Session.Line($"There is no starter in {parse.GetRequiredValue(folder)}.");
                        return;
                    }
                    var table = new Table("Name", "Version", "In use as", "~Kernel", "~For", ">Size", "~Folder");
                    foreach (var starter in all)
                        table.Row(starter.Manifest.Name, starter.Manifest.Version,
                            string.Join(", ", inUse.Of(all, starter)), starter.Manifest.Kernel,
                            starter.Manifest.Models.Count == 0 ? "all hardware" : string.Join(", ", starter.Manifest.Models),
                            Cli.Text.Size(starter.Manifest.Files.Sum(f => f.Bytes)), starter.Folder);
                    table.Print(session);
                });
                return ExitCode.Done;
            });
    }

    private static VembarCommand Use()
    {
        var folder = Folder("The starter's folder");
        var channel = new Option<string>("--channel")
        {
            Description = "For all machines (production), or for those that it is tried on (pilot)",
            HelpName = "production|pilot",
            DefaultValueFactory = _ => StarterChannels.ProductionName,
        }.AcceptOnlyFromAmong(StarterChannels.ProductionName, StarterChannels.PilotName);
        return new VembarCommand("use", "Put a starter into use; where none was, machines get the newest in the folder beside it",
            "vembar starter use starters/2026.12 --channel pilot", "vembar starter use starters/2026.12").With(folder, channel)
            .Does((parse, session) =>
            {
                var starter = Starter.Read(parse.GetRequiredValue(folder));
                var word = parse.GetRequiredValue(channel);
                StarterChannels.Use(starter, word);
                session.Result(Json(starter, []) with { Channels = [word] }, json => json.StarterJson, () =>
                    Session.Line($"{starter.Manifest.Name} {starter.Manifest.Version} is in use as {word}."));
                return ExitCode.Done;
            });
    }

    private static VembarCommand Show()
    {
        var folder = Folder("The starter's folder");
        return new VembarCommand("show", "Say what a starter is made of", "vembar starter show starters/2026.11").With(folder)
            .Does((parse, session) =>
            {
                var starter = Starter.Read(parse.GetRequiredValue(folder));
                session.Result(Json(starter, []), json => json.StarterJson, () =>
                {
                    Session.Line($"{starter.Manifest.Name} {starter.Manifest.Version}");
                    Show(starter);
                });
                return ExitCode.Done;
            });
    }

    private static VembarCommand Check()
    {
        var folder = Folder("The starter's folder");
        var models = new Option<string[]>("--for")
        {
            Description = "The hardware profile of a model, or a folder of them; may be given several times",
            HelpName = "PROFILE",
            Required = true,
        };
        return new VembarCommand("check", "Say which storage and network devices of models a starter has modules for",
            "vembar starter check starters/2026.11 --for hardware").With(folder, models).Does(async (parse, session) =>
            {
                var result = await session.Do(new CheckStarterHandler(), new CheckStarterRequest(parse.GetRequiredValue(folder),
                    parse.GetRequiredValue(models)));
                var manifest = result.Starter.Manifest;
                session.Result(new StarterCheckJson(result.IsInOrder, result.Starter.Folder, manifest.Name, manifest.Version,
                    result.Devices),
                    json => json.StarterCheckJson, () =>
                    {
                        var table = new Table("Model", "Device", "Kind", "Module", "Firmware that it may ask for and is not there");
                        foreach (var device in result.Devices)
                            table.Row(device.Model, device.Device, device.Kind, device.IsMissing ? "none: it cannot be reached"
                                : device.Modules.Count == 0 ? "none" : string.Join(", ", device.Modules),
                                string.Join(", ", device.Firmware));
                        table.Print(session);
                        Session.Line();
                        var missing = result.Devices.Count(d => d.IsMissing);
                        Session.Line(missing == 0 ? "Every storage and network device has a module."
                            : $"{Cli.Text.Count(missing, "storage or network device")} without a module.");
                    });
                return result.IsInOrder ? ExitCode.Done : ExitCode.NotInOrder;
            });
    }

    private static VembarCommand Image()
    {
        var folder = Folder("The starter's folder");
        var output = new Argument<string>("OUT") { Description = "The file to make, an .img or an .iso: both are the same" };
        var station = Text("--station", "URL", "The station that machines join; else the starter's, or the one that somebody types");
        var attended = new Option<bool>("--attended") { Description = "Somebody signs in at the machine" };
        var arguments = Text("--arguments", "TEXT", "What else stands on the kernel's command line");
        var images = new Option<string[]>("--with")
        {
            Description = "An image that it carries, to be written with no network; may be given several times",
            HelpName = "IMAGE",
            DefaultValueFactory = _ => [],
        };
        return new VembarCommand("image", "Make a stick or virtual CD of a starter, for BIOS and UEFI, with secure boot on or off",
            "vembar starter image starters/2026.11 starter.img", "vembar starter image starters/2026.11 starter.iso --station "
            + "https://station.example:8470 --attended",
                "vembar starter image starters/2026.11 branch.img --with desks.vmb#\"Lending desk\"")
            .With(folder, output, station, attended, arguments, images, SharedOptions.Base).Does(async (parse, session) =>
            {
                var made = await session.Do(new MakeMediumHandler(session.Host), new MakeMediumRequest
                {
                    Starter = parse.GetRequiredValue(folder),
                    Output = parse.GetRequiredValue(output),
                    Station = parse.GetValue(station)?.TrimEnd('/'),
                    IsAttended = parse.GetValue(attended),
                    Arguments = parse.GetValue(arguments) ?? "",
                    Images = [.. parse.GetRequiredValue(images).Select(i => SharedOptions.ImageOf(i, parse, session))],
                    Cache = CacheFolder(),
                });
                var path = parse.GetRequiredValue(output);
                session.Result(new StarterImageJson(path, made.Bytes, made.Sha256, made.Starter.Manifest.Name,
                    made.Starter.Manifest.Version,
                    made.Images), json => json.StarterImageJson, () =>
                {
                    Session.Line($"{path} starts {made.Starter.Manifest.Name} {made.Starter.Manifest.Version}: "
                        + $"{Cli.Text.Size(made.Bytes)}, "
                        + $"made in {Cli.Text.Duration(made.Seconds)}.");
                    foreach (var image in made.Images)
                        Session.Line($"  carries   {Cli.Text.Safe(image)}");
                    Session.Line($"  SHA-256   {made.Sha256}");
                    Session.Line();
                    Session.Line($"Write it onto a stick as it is: dd if={path} of=/dev/sdX bs=4M conv=fsync");
                });
                return ExitCode.Done;
            });
    }
}
