using System.CommandLine;
using System.Runtime.InteropServices;
using System.Security.Cryptography.X509Certificates;
using System.Text.Json;
using Vembar.Common;
using Vembar.Operations.Project;
using Vembar.Station.Hosting;

namespace Vembar.Station;

internal static class Program
{
    private static readonly Option<string?> s_config = new("--config") { HelpName = "FILE" };
    private static readonly Option<string?> s_project = new("--project") { HelpName = "FILE" };
    private static readonly Option<string?> s_data = new("--data") { HelpName = "DIR" };
    private static readonly Option<bool> s_json = new("--json");
    private static readonly Option<bool> s_checkBoot = new("--check-boot");
    private static readonly Option<string?> s_listen = new("--listen") { HelpName = "HOST:PORT" };

    private static async Task<int> Main(string[] args)
    {
        var command = new RootCommand("The station: serves archives to machines, and keeps the list of machines. Begun by `vembar "
            + "station serve`.")
        {
            s_config, s_project, s_data, s_listen, s_checkBoot, s_json,
        };
        command.SetAction(RunAsync);
        var parse = command.Parse(args);
        return await parse.InvokeAsync(new InvocationConfiguration { EnableDefaultExceptionHandler = false }).ConfigureAwait(false);
    }

    private static async Task<int> CheckBootAsync(StationOptions options, bool isJson)
    {
        var findings = new Boot.BootCheck(options).Run();
        if (isJson)
        {
            await Console.Out.WriteLineAsync(JsonSerializer.Serialize(new Boot.BootChecked(findings.All(f => f.IsWell), findings),
                Boot.BootJson.Default.BootChecked)).ConfigureAwait(false);
            return findings.All(f => f.IsWell) ? 0 : 1;
        }
        foreach (var finding in findings)
        {
            await Console.Out.WriteLineAsync($"  {(finding.IsWell ? "well" : "NOT ")}  {finding.What}: {finding.Found}")
                .ConfigureAwait(false);
            if (finding.Remedy.Length > 0)
                await Console.Out.WriteLineAsync($"        {finding.Remedy}").ConfigureAwait(false);
        }
        var wrong = findings.Count(f => !f.IsWell);
        await Console.Out.WriteLineAsync(wrong == 0 ? "Nothing is in the way: machines can start from the network."
            : $"{wrong} of {findings.Count} things are in the way.").ConfigureAwait(false);
        return wrong == 0 ? 0 : 1;
    }

    private static StationOptions Read(ParseResult parse)
    {
        var projectFile = parse.GetValue(s_project) ?? ProjectFile.Find(Directory.GetCurrentDirectory(), out _);
        var project = projectFile is null ? null : ProjectFile.Read(projectFile);
        var config = parse.GetValue(s_config) ?? (File.Exists(StationFile.FileName) ? StationFile.FileName : null);
        var options = StationFile.Read(config, project, parse.GetValue(s_data));
        return parse.GetValue(s_listen) is { } listen ? options with { Listen = listen } : options;
    }

    private static async Task<int> RunAsync(ParseResult parse, CancellationToken cancellation)
    {
        try
        {
            var options = Read(parse);
            if (parse.GetValue(s_checkBoot))
                return await CheckBootAsync(options, parse.GetValue(s_json)).ConfigureAwait(false);
            var server = await StationServer.PrepareAsync(options, cancellation).ConfigureAwait(false);
            await using (server.ConfigureAwait(false))
            {
                await server.StartAsync(cancellation).ConfigureAwait(false);
                using var reload = PosixSignalRegistration.Create(PosixSignal.SIGHUP, context =>
                {
                    context.Cancel = true;
                    Reload(parse, server);
                });
                Tell(server, options);
                await server.WaitAsync(cancellation).ConfigureAwait(false);
            }
            return 0;
        }
        catch (VembarException problem)
        {
            await Console.Error.WriteLineAsync($"error: {problem.Message}").ConfigureAwait(false);
            foreach (var detail in problem.Details)
                await Console.Error.WriteLineAsync($"  {detail}").ConfigureAwait(false);
            if (problem.Hint.Length > 0)
                await Console.Error.WriteLineAsync(problem.Hint).ConfigureAwait(false);
            return problem.Kind switch { ErrorKind.Usage => 2, ErrorKind.Input => 3, ErrorKind.Damaged => 4, _ => 5 };
        }
    }

    // What was wrong in the file leaves everything as it was.
    private static void Reload(ParseResult parse, StationServer server)
    {
        try
        {
            server.Settings.Take(Read(parse));
            Console.Error.WriteLine("the station's file was read again");
        }
        catch (VembarException problem)
        {
            Console.Error.WriteLine($"the station's file was not taken: {problem.Message} {string.Join("; ", problem.Details)}");
        }
    }

    private static void Tell(StationServer server, StationOptions options)
    {
        var address = server.Addresses[0];
        Console.WriteLine($"The station listens at {string.Join(" and ", server.Addresses)}.");
        if (options.Certificate is null)
        {
            using var authority = X509CertificateLoader.LoadCertificateFromFile(Authority.CertificatePath(options.Data));
            Console.WriteLine($"Its authority is {Authority.CertificatePath(options.Data)} (SHA-256 "
                + $"{Convert.ToHexStringLower(authority.GetCertHash(System.Security.Cryptography.HashAlgorithmName.SHA256))[..16]}…).");
        }
        Console.WriteLine(server.Settings.Options.Archives.Count == 0
            ? "It serves no archive yet: name some in station.yaml, or in the project file."
            : $"It serves {string.Join(", ", server.Settings.Options.Archives.Select(a => a.Name))}.");
        if (server.FirstToken is not { } token)
            return;
        Console.WriteLine();
        Console.WriteLine("The first administrator's token, which is kept nowhere and told this once:");
        Console.WriteLine($"  {token}");
        Console.WriteLine($"  vembar login {address} --token --ca {Authority.CertificatePath(options.Data)}");
    }
}
