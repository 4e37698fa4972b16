using System.CommandLine;
using System.Globalization;
using Vembar.Cli.Json;
using Vembar.Common;
using Vembar.Operations;
using Vembar.Operations.Drivers;
using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Drivers;

namespace Vembar.Cli.Commands.Drivers;

internal static class DriversCommand
{
    public static VembarCommand Create()
    {
        var folders = new Argument<string[]>("DIR")
        {
            Description = "Folders with driver packages, however deep and also in packed files (.zip, .cab, .7z, .iso, .tar.*); or "
            + "single .inf or packed files",
            Arity = ArgumentArity.ZeroOrMore,
        };
        var image = new Option<string?>("--image")
        {
            Description = "List what was added to an image; with --for: compare also the drivers that it holds, for its Windows",
            HelpName = "IMAGE",
        };
        var models = SharedOptions.For("Tell which driver each device of a hardware model would get; may be given several times");
        var trust = SharedOptions.Trust();
        var architecture = new Option<string>("--architecture")
        {
            Description = "With --for and without --image: which Windows is meant",
            HelpName = "amd64|arm64|x86",
            DefaultValueFactory = _ => "amd64",
        }.AcceptOnlyFromAmong("amd64", "arm64", "x86");
        var devices = new Option<bool>("--devices") { Description = "List every device of every package, with its ids" };
        var report = SharedOptions.Report("With --for: write the same as an HTML page");
        var command = new VembarCommand("drivers",
            "List driver packages: what they are for, whether they are whole, signed, and which devices would get them",
            "vembar drivers vembar-demo/drivers --trust vembar-demo/trust", "vembar drivers vembar-demo/drivers/corrin-network --devices",
            "vembar drivers vembar-demo/drivers --for vembar-demo/hardware --trust vembar-demo/trust --report coverage.html",
            "vembar drivers --image desks.vmb#1", "vembar drivers --image desks.vmb#1 --for vembar-demo/hardware/oakmere-m4.yaml")
            .With(folders, devices, image, models, trust, architecture, report, SharedOptions.Base, SharedOptions.AtState)
            .Does(async (parse, session) =>
            {
                var paths = parse.GetValue(folders) ?? [];
                var profiles = parse.GetRequiredValue(models);
                if (parse.GetValue(devices) && profiles.Length > 0)
                    throw new VembarException(ErrorKind.Usage, "devices-or-for", "--devices and --for exclude each other", "Choose one.");
                if (profiles.Length > 0)
                    return await CoverAsync(session, paths, parse.GetValue(image) is { } which
                        ? SharedOptions.ImageOf(which, parse, session)
                        : null, profiles, parse.GetRequiredValue(architecture), SharedOptions.TrustOf(parse, trust, session),
                        parse.GetValue(report)).ConfigureAwait(false);
                if (parse.GetValue(report) is not null)
                    throw new VembarException(ErrorKind.Usage, "for-what", "--report needs --for", "Name the hardware models with --for.");
                if (paths.Length == 0 && parse.GetValue(image) is null)
                    throw new VembarException(ErrorKind.Usage, "no-folder", "no folder was named",
                        "Name a folder that holds driver packages, or an image with --image.");
                var held = parse.GetValue(image) is { } listed
                    ? SharedOptions.ImageOf(listed, parse, session)
                    : null;
                var rows = await session.Do(new DriversHandler(session.Host),
                    new DriversRequest(paths, held, SharedOptions.TrustOf(parse, trust, session)));
                return List(session, rows, parse.GetValue(devices));
            });
        command.Subcommands.Add(Hardware());
        return command;
    }

    private static VembarCommand Hardware()
    {
        var model = new Option<string?>("--model")
        {
            Description = "The model's name, where the firmware does not say it well",
            HelpName = "NAME",
        };
        var from = new Option<string>("--from")
        {
            Description = "A copy of another machine's /sys",
            HelpName = "DIR",
            DefaultValueFactory = _ => "/sys",
        };
        var to = new Option<string?>("--out") { Description = "Write the profile there; otherwise it is printed", HelpName = "FILE" };
        return new VembarCommand("hardware", "Write a profile of the devices of the machine that this runs on, for --for",
            "vembar drivers hardware --out oakmere-m4.yaml", "vembar drivers hardware --model \"Wharf 11\"")
            .With(model, from, to).Does((parse, session) =>
            {
                var output = OutputFile.At(parse.GetValue(to), session);
                var profile = HardwareScan.Run(parse.GetRequiredValue(from), parse.GetValue(model), IdNames.Load());
                output?.Write(profile.ToYaml());
                session.TextResult(new HardwareJson(profile.Model, [.. profile.Devices.Select(CliJson.From)], parse.GetValue(to)),
                    json => json.HardwareJson, parse.GetValue(to), profile.ToYaml(), written =>
                        Session.Line($"{written}: {profile.Model}, {Text.Count(profile.Devices.Count, "device")}, "
                            + $"{profile.Devices.Count(d => d.Needed)} of them needed. Read it through: mark what else is needed, give "
                            + $"plain names."));
                return ExitCode.Done;
            });
    }

    private static int List(Session session, IReadOnlyList<DriverRow> rows, bool withDevices)
    {
        if (rows.Count == 0)
        {
            session.Result(new DriversJson(true, []), json => json.DriversJson, () => Session.Line("No driver was added to the image."));
            return ExitCode.Done;
        }
        var ok = rows.All(r => r.Problem.Length == 0 && r.MissingFiles.Count == 0);
        session.Result(new DriversJson(ok, [.. rows.Select(CliJson.From)]), json => json.DriversJson, () =>
        {
            var common = Common(rows);
            if (common.Length > 0)
                Session.Line($"In {common}:");
            var table = new Table("Package", "Class", "~Provider", ">Version", "~Date", "~For", "~>Devices", "!Signature", "Remarks");
            foreach (var row in rows)
            {
                table.Row(Named(row, common), row.Class, row.Provider, row.Version,
                    row.Date?.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture) ?? "", string.Join(", ", row.Architectures),
                    row.Version.Length > 0 ? Text.Number(row.Devices) : "", row.Signature?.Word ?? "",
                    string.Join("; ", Remarks(row, rows)));
            }
            table.Print(session);
            Session.Line();
            if (withDevices)
            {
                var list = new Table("Package", "Device", "Ids");
                foreach (var row in rows)
                {
                    foreach (var (description, ids) in row.DeviceList)
                        list.Row(Named(row, common), description, string.Join(", ", ids));
                }
                list.Print(session);
                Session.Line();
            }
            Session.Line($"{Text.Count(rows.Count, "package")}, {Text.Size(rows.Sum(r => r.Bytes))}; "
                + $"{rows.Count(r => r.Signature?.State == SignatureState.Signed)} signed by somebody trusted, "
                + $"{rows.Count(r => r.MissingFiles.Count > 0)} incomplete, {rows.Count(r => r.Problem.Length > 0)} that cannot be used.");
            foreach (var why in rows.Where(r => r.Signature is { State: not SignatureState.Signed }).GroupBy(r => r.Signature!.Why)
                .Take(10))
            {
                var packages = why.Count() > 1 ? $" ({why.Count()} packages)" : "";
                Session.Line($"{why.First().Signature!.Word}: {why.Key}{packages}");
            }
        });
        return ok ? ExitCode.Done : ExitCode.NotInOrder;
    }

    private static string Named(DriverRow row, string common)
    {
        var name = row.Path[common.Length..];
        return row.Inf.Length == 0 || row.Path.EndsWith(row.Inf, StringComparison.OrdinalIgnoreCase) ? name : $"{name} ({row.Inf})";
    }

    // The folder that all of them are in, with its '/'.
    private static string Common(IReadOnlyList<DriverRow> rows)
    {
        var common = rows[0].Path;
        foreach (var row in rows)
        {
            var same = common.Zip(row.Path).TakeWhile(p => p.First == p.Second).Count();
            common = common[..same];
        }
        return common[..(common.LastIndexOf('/') + 1)];
    }

    private static IEnumerable<string> Remarks(DriverRow row, IReadOnlyList<DriverRow> rows)
    {
        if (row.Problem.Length > 0)
            yield return row.Problem;
        if (row.MissingFiles.Count > 0)
            yield return $"missing: {string.Join(", ", row.MissingFiles)}";
        if (row.IsPrimitive)
            yield return "for no device: a filter or service";
        if (row.BootCritical)
            yield return "boot-critical";
        if (row.SameAs.Length > 0)
            yield return $"same as {row.SameAs}";
        if (row.OlderThan.Length > 0)
            yield return $"older than {rows.First(r => r.Path == row.OlderThan).Version}";
        if (row.LeftToWindows.Count > 0)
            yield return $"left to Windows: {string.Join(", ", row.LeftToWindows)}";
    }

    private static async Task<int> CoverAsync(Session session, IReadOnlyList<string> paths, ImageReference? image,
        IReadOnlyList<string> profiles, string architecture, DriverTrust trust, string? report)
    {
        if (paths.Count == 0 && image is null)
            throw new VembarException(ErrorKind.Usage, "no-drivers", "no drivers were named",
                "Name a folder that holds driver packages, or an image with --image.");
        var page = OutputFile.At(report, session, Page.Mark);
        var result = await session.Do(new CoverageHandler(session.Host),
            new CoverageRequest(paths, image, architecture, SharedOptions.ProfilesOf(profiles, session), trust));
        var from = string.Join(", ", paths.Concat(image is null ? [] : [$"image {image}"]));
        page?.Write(CoveragePage.Render(result, from));
        session.Result(CliJson.From(result), json => json.CoverageJson, () => Show(result, report, session));
        return result.IsInOrder ? ExitCode.Done : ExitCode.NotInOrder;
    }

    private static void Show(CoverageResult result, string? report, Session session)
    {
        var matrix = new Table(["Device", .. result.Models.Select(m => "!" + m.Model)]);
        foreach (var row in CoverageRow.Of(result))
            matrix.Row([row.Device, .. row.Cells.Select(c => c is null ? "-" : CoverageRow.Cell(c))]);
        matrix.Print(session);
        Session.Line();
        var losers = result.Models.SelectMany(m => m.Devices.SelectMany(d => d.Others.Select(o => (Device: d, Other: o))))
            .GroupBy(l => (l.Device.Device.Name, l.Other.Driver)).Select(g => g.First()).ToList();
        if (losers.Count > 0)
        {
            var table = new Table("Not chosen", "For", "Because");
            foreach (var (device, other) in losers)
                table.Row($"{other.Driver.Name} {other.Driver.Version}, {other.Driver.From}", device.Device.Name,
                    CoverageRow.Why(device, other));
            table.Print(session);
            Session.Line();
        }
        var refused = result.Passed.Where(p => p.Status == ChangeStatus.Refused).ToList();
        foreach (var passed in refused)
            Session.Line($"passed over: {passed.What}: {passed.Why}");
        foreach (var model in result.Models)
        {
            foreach (var gap in model.Devices.Where(d => d.Urgency < 2))
                Session.Line($"{model.Model}: no driver for {gap.Device.Name}, "
                    + $"{(gap.Device.Boot ? "without which Windows does not start" : "which is needed")} "
                    + $"({gap.Device.HardwareIds.Concat(gap.Device.CompatibleIds).First()})");
        }
        var devices = result.Models.SelectMany(m => m.Devices).ToList();
        Session.Line($"{Text.Count(devices.Count, "device")} of {Text.Count(result.Models.Count, "model")}, "
            + $"{Text.Count(result.Drivers, "driver package")} compared: {CoverageRow.Summary(devices)}");
        if (report is not null)
            Session.Line($"The same is in {report}.");
    }
}
