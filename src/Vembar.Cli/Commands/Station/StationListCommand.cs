using System.CommandLine;
using nietras.SeparatedValues;
using Vembar.Common;
using Vembar.Common.Files;
using Vembar.Operations.Stations.Contract;

namespace Vembar.Cli.Commands.Station;

/// <summary>Lists of machines, as CSV (RFC 4180): identifier, name, site, image, user-files, starter; whatever other columns there are fill
/// in the answer file.</summary>
internal static class StationListCommand
{
    private const string Identifier = "identifier", Name = "name", Site = "site", Image = "image", UserFiles = "user-files",
        Starter = "starter";
    private const int Longest = 16 << 20;

    public static VembarCommand Import()
    {
        var file = new Argument<string>("FILE")
        {
            Description = "A CSV file with the columns identifier (UUID, serial number or network address), name, site, image, user-files "
            + "(keep or none), starter; further columns are texts for what stands between {{ and }} in the answer file; '-' "
            + "reads standard input",
        };
        return new VembarCommand("import", "Add machines before they are seen, and say what they are to become",
            "vembar station import machines.csv").With(file, StationCommand.Option).Does(async (parse, session) =>
            {
                var rows = Read(parse.GetRequiredValue(file));
                using var client = StationCommand.Client(parse, session);
                var answer = await client.ImportAsync(rows, session.Cancellation).ConfigureAwait(false);
                session.Result(answer, json => json.ImportAnswer, () => Session.Line($"{Text.Count(answer.Added, "machine")} added, "
                    + $"{answer.Changed} changed, {answer.Unchanged} as they were."));
                return ExitCode.Done;
            });
    }

    private static List<ImportRow> Read(string path)
    {
        VembarException Wrong(string why) => VembarException.Input("bad-list", $"'{path}' is not a list of machines: {why}",
            "Write a CSV file that begins with a line: identifier,name,site,image");
        var bytes = Bytes(path);
        try
        {
            using var reader = Nietras(bytes);
            if (reader.Header.ColNames is not { Count: > 0 } columns || !columns.Contains(Identifier, StringComparer.OrdinalIgnoreCase))
                throw Wrong($"its first line does not name the column '{Identifier}'");
            var rows = new List<ImportRow>();
            foreach (var row in reader)
            {
                var values = new Dictionary<string, string>(StringComparer.OrdinalIgnoreCase);
                for (var at = 0; at < columns.Count; at++)
                    values[columns[at].Trim()] = row[at].ToString().Trim();
                if (values.Values.All(v => v.Length == 0))
                    continue;
                rows.Add(new ImportRow(values[Identifier], values.GetValueOrDefault(Name, ""), values.GetValueOrDefault(Site, ""),
                    values.GetValueOrDefault(Image, ""), values.Where(v => v.Value.Length > 0
                        && !((string[])[Identifier, Name, Site, Image, UserFiles, Starter]).Contains(v.Key,
                            StringComparer.OrdinalIgnoreCase))
                        .ToDictionary(v => v.Key, v => v.Value))
                {
                    UserFiles = values.GetValueOrDefault(UserFiles, "").ToLowerInvariant(),
                    Starter = values.GetValueOrDefault(Starter),
                });
            }
            return rows.Count > 0 ? rows : throw Wrong("there is no machine in it");
        }
        catch (Exception failure)
            when (failure is ArgumentException or InvalidDataException or KeyNotFoundException or NotSupportedException)
        {
            throw Wrong(failure.Message.Split('\n')[0].TrimEnd('.', '\r'));
        }
    }

    private static SepReader Nietras(byte[] bytes) => Sep.New(',').Reader(options => options with { Unescape = true, Trim = SepTrim.None })
        .From(bytes.AsSpan() is [0xEF, 0xBB, 0xBF, ..] ? bytes[3..] : bytes);

    private static byte[] Bytes(string path)
    {
        try
        {
            using var file = InputFile.OpenRead(path);
            if (file.Length > Longest)
                throw VembarException.Input("bad-list", $"'{path}' is too large for a list of machines", "Name a CSV file.");
            var bytes = new byte[file.Length];
            file.ReadExactly(bytes);
            return bytes;
        }
        catch (Exception failure) when (VembarException.From(failure, "read", path) is { } error)
        {
            throw error;
        }
    }

    public static VembarCommand Export()
    {
        var to = new Option<string?>("--out") { Description = "Write the list there; otherwise it is printed", HelpName = "FILE" };
        return new VembarCommand("export", "The machines as a CSV file that `import` reads; texts for the answer file are left out",
            "vembar station export --out machines.csv").With(to, StationCommand.Option).Does(async (parse, session) =>
            {
                var output = OutputFile.At(parse.GetValue(to), session);
                using var client = StationCommand.Client(parse, session);
                var machines = await client.MachinesAsync(session.Cancellation).ConfigureAwait(false);
                var text = Write(machines);
                output?.Write(text);
                session.TextResult(machines, json => json.IReadOnlyListMachineInfo, parse.GetValue(to), text, written =>
                    Session.Line($"{written}: {Text.Count(machines.Count, "machine")}."));
                return ExitCode.Done;
            });
    }

    private static string Write(IReadOnlyList<MachineInfo> machines)
    {
        using var writer = Sep.New(',').Writer(options => options with { Escape = true }).ToText();
        foreach (var machine in machines.OrderBy(m => m.Assignment.Name, StringComparer.OrdinalIgnoreCase))
        {
            using var row = writer.NewRow();
            row[Identifier].Set(machine.Identity is { Uuid.Length: > 0 } own ? own.Uuid
                : machine.Identity.Serial is { Length: > 0 } serial ? serial
                : machine.Identity.Addresses is [var address, ..] ? address : "");
            row[Name].Set(machine.Assignment.Name);
            row[Site].Set(machine.Assignment.Site);
            row[Image].Set(machine.Assignment.Image);
            row[UserFiles].Set(machine.Assignment.UserFiles);
            row[Starter].Set(machine.Assignment.Starter);
        }
        return writer.ToString();
    }
}
