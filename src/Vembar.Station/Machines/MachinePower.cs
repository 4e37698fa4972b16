using System.Diagnostics;
using Vembar.Station.Hosting;
using Vembar.Station.Problems;

namespace Vembar.Station.Machines;

/// <summary>Switches machines on by programs of the organisation's.</summary>
public sealed class MachinePower(StationSettings settings, TimeProvider clock)
{
    /// <summary>The command for a machine; null for none.</summary>
    public PowerCommand? CommandFor(MachineRow row)
    {
        var all = settings.Options.Power;
        return all.FirstOrDefault(c => c.Site.Equals(row.Document.Assignment.Site, StringComparison.OrdinalIgnoreCase))
            ?? all.FirstOrDefault(c => c.Site == PowerCommand.AnySite);
    }

    /// <summary>Runs it.</summary>
    /// <exception cref="StationException">It failed, took too long, or something of the machine that it needs is not known.</exception>
    public async Task RunAsync(PowerCommand command, MachineRow row, CancellationToken cancellation)
    {
        var arguments = command.Arguments.Select(a => Filled(a, row)).ToList();
        var start = new ProcessStartInfo(arguments[0], arguments[1..])
        {
            RedirectStandardInput = true,
            RedirectStandardOutput = true,
            RedirectStandardError = true,
        };
        using var limit = new CancellationTokenSource(command.Limit, clock);
        using var either = CancellationTokenSource.CreateLinkedTokenSource(cancellation, limit.Token);
        Process process;
        try
        {
            process = Process.Start(start)!;
        }
        catch (System.ComponentModel.Win32Exception failure)
        {
            throw Failed(arguments[0], $"cannot be run: {failure.Message}");
        }
        using (process)
        {
            process.StandardInput.Close();
            var said = Task.WhenAll(process.StandardOutput.ReadToEndAsync(either.Token),
                process.StandardError.ReadToEndAsync(either.Token));
            try
            {
                await process.WaitForExitAsync(either.Token).ConfigureAwait(false);
                var lines = await said.ConfigureAwait(false);
                if (process.ExitCode != 0)
                    throw Failed(arguments[0], $"ended with {process.ExitCode}"
                        + (LastLine(lines[1] + lines[0]) is { Length: > 0 } last ? $": {last}" : ""));
            }
            catch (OperationCanceledException)
            {
                process.Kill(entireProcessTree: true);
                await ((Task)said).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
                cancellation.ThrowIfCancellationRequested();
                throw Failed(arguments[0], $"did not end within {command.Limit.TotalSeconds:0} s");
            }
        }
    }

    private static string LastLine(string text)
    {
        const int Longest = 200;
        var last = text.Split('\n', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries).LastOrDefault() ?? "";
        return string.Concat(last.Where(c => !char.IsControl(c)).Take(Longest));
    }

    private static StationException Failed(string program, string why) =>
        StationException.Conflict("power-failed", $"'{Path.GetFileName(program)}', which switches machines on, {why}",
            "Try it by hand where the station runs; it is named below `power:` in station.yaml.");

    private static string Filled(string argument, MachineRow row)
    {
        foreach (var (word, value) in ((string, string)[])[("name", row.Document.Assignment.Name),
            ("address", row.Document.Identity.Addresses is [var first, ..] ? first : ""), ("serial", row.Document.Identity.Serial),
            ("uuid", row.Document.Identity.Uuid), ("id", row.Id)])
        {
            if (!argument.Contains($"{{{word}}}", StringComparison.Ordinal))
                continue;
            // What machines say of themselves is never taken for an option, nor for another path.
            if (value.Length == 0 || value.Any(c => !char.IsAsciiLetterOrDigit(c) && c is not ('-' or '.' or ':' or '_' or ' '))
                || value[0] is '-' or '.')
                throw StationException.Conflict("power-unknown", $"{row.DisplayName} has no {word} that the command could be given",
                    "Give it one, or change the command below `power:` in station.yaml.");
            argument = argument.Replace($"{{{word}}}", value, StringComparison.Ordinal);
        }
        return argument;
    }
}
