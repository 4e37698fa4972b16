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
            .With(config, data, listen).Does(int (parse, session) =>
            {
                var program = Find() ?? throw Missing();
                var arguments = new List<string> { ProgramName };
                foreach (var (option, value) in ((string, string?)[])[("--config", parse.GetValue(config)),
                    ("--data", parse.GetValue(data)),
                    ("--listen", parse.GetValue(listen)), ("--project", session.Project?.Path)])
                {
                    if (value is not null)
                        arguments.AddRange([option, value]);
                }
                // It takes this process's place: who watches over it sees the station itself.
                throw VembarException.From(Posix.Execute(program, arguments), "run", program)!;
            });
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
