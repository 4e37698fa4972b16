using System.CommandLine;
using Vembar.Common;
using Vembar.Native;

namespace Vembar.Cli.Commands.Station;

internal static class StationServeCommand
{
    private const string ProgramName = "vembar-station";

    public static VembarCommand Create()
    {
        var config = new Option<string?>("--config")
        {
            Description = "The station's file; station.yaml in the working folder where there is one",
            HelpName = "FILE",
        };
        var data = new Option<string?>("--data")
        {
            Description = "The folder for what is the station's own; made when there is none",
            HelpName = "DIR",
        };
        var listen = new Option<string?>("--listen")
        {
            Description = "Where to listen: HOST:PORT, *:8470 for all addresses",
            HelpName = "HOST:PORT",
        };
        return new VembarCommand("serve", "Run a station: serve archives, and hand images to machines that join",
            "vembar station serve", "vembar station serve --config /etc/vembar/station.yaml",
            "vembar station serve --data station --listen 127.0.0.1:8470")
            .With(config, data, listen).Does(int (parse, session) => throw Execute([], ("--config", parse.GetValue(config)),
                ("--data", parse.GetValue(data)), ("--listen", parse.GetValue(listen)), ("--project", session.Project?.Path)));
    }

    // It takes this process's place: who watches over it sees the station itself.
    private static VembarException Execute(string[] first, params (string Option, string? Value)[] options)
    {
        var program = Find() ?? throw Missing();
        string[] arguments =
            [ProgramName, .. first, .. options.Where(o => o.Value is not null).SelectMany(o => (string[])[o.Option, o.Value!])];
        return VembarException.From(Posix.Execute(program, arguments), "run", program)!;
    }

    /// <summary>What is in the way of machines that start from the network.</summary>
    public static VembarCommand CheckBoot()
    {
        var config = new Option<string?>("--config")
        {
            Description = "The station's file; station.yaml in the working folder where there is one",
            HelpName = "FILE",
        };
        var check = new VembarCommand("check",
            "Say what is in the way: ports, the interface, starters, other DHCP servers; on the station's "
            + "own machine", "vembar station boot check", "vembar station boot check --config /etc/vembar/station.yaml").With(config)
            .Does(int (parse, session) => throw Execute(session.Json ? ["--check-boot", "--json"] : ["--check-boot"],
                ("--config", parse.GetValue(config)),
                ("--project", session.Project?.Path)));
        var command = new VembarCommand("boot", "Start machines from the network: see `vembar help netboot`", "vembar station boot check");
        command.Subcommands.Add(check);
        return command;
    }

    /// <summary>The error where the program is not there.</summary>
    public static VembarException Missing() => VembarException.Environment("no-station-program",
        $"there is no program '{ProgramName}' beside this one, or on the path", "Install it: `make install` puts both into place.");

    /// <summary>The station's program; null where it is not there.</summary>
    public static string? Find()
    {
        var own = AppContext.BaseDirectory;
        return new[] { Path.Combine(own, ProgramName), Path.Combine(own, "station", ProgramName) }
            .Concat((Environment.GetEnvironmentVariable("PATH") ?? "").Split(Path.PathSeparator, StringSplitOptions.RemoveEmptyEntries)
                .Select(f => Path.Combine(f, ProgramName))).FirstOrDefault(File.Exists);
    }
}
