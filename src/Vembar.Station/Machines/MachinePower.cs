using Vembar.Operations;
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
        if (await new OwnProgram(arguments).RunAsync(command.Limit, clock, cancellation).ConfigureAwait(false) is { } wrong)
            throw Failed(arguments[0], wrong);
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
