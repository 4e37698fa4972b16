using System.CommandLine;
using Vembar.Cli.Commands.Features;
using Vembar.Cli.Commands.Guide;
using Vembar.Cli.Commands.List;
using Vembar.Cli.Json;
using Vembar.Images.Records;
using Vembar.Operations.Show;
using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Tidying;

namespace Vembar.Cli.Commands.Show;

internal static class ShowCommand
{
    private static readonly string[] s_parts =
        ["record", "history", "programs", "apps", "drivers", "packages", "features", "languages", "first-start", "tidy"];

    public static VembarCommand Create()
    {
        var image = SharedOptions.Image();
        var only = new Option<string?>("--only")
        {
            Description = "Show one part",
            HelpName = string.Join('|', s_parts),
        }.AcceptOnlyFromAmong(s_parts);
        var bill = new Option<string?>("--bill-of-materials")
        {
            Description = "Write what the image is made of, for auditors: Windows, programs, apps, drivers, packages with versions, "
            + "publishers and hashes, as CycloneDX 1.5 JSON; '-' prints it",
            HelpName = "FILE|-",
        };
        return new VembarCommand("show", "Show one image: what it is, how it was made, its programs and drivers",
            "vembar show desks.vmb#1", "vembar show desks.vmb#\"Reading room\" --only programs", "vembar show desks.vmb#last --json",
            "vembar show desks.vmb#1 --bill-of-materials lending-desk.cdx.json")
            .With(image, only, bill, SharedOptions.Base, SharedOptions.AtState).Does(async (parse, session) =>
            {
                var reference = SharedOptions.ImageOf(parse, image, session);
                var billFile = parse.GetValue(bill) is { } path and not "-" ? OutputFile.At(path, session, "\"bomFormat\"") : null;
                var result = await session.Do(new ShowHandler(session.Host), new ShowRequest(reference, parse.GetValue(only) == "drivers",
                    parse.GetValue(only) == "tidy"));
                if (parse.GetValue(bill) is not null)
                {
                    var text = BillOfMaterials.Of(result, reference, session.Host, VersionAction.Version);
                    billFile?.Write(text);
                    if (billFile is null)
                    {
                        Console.Out.Write(text);
                        return result.Problems.Count > 0 ? ExitCode.NotInOrder : ExitCode.Done;
                    }
                    session.Warn([$"{parse.GetValue(bill)} says what it is made of"]);
                }
                session.Result(new ShowJson(result.Archive, result.Image, result.Programs,
                    CliJson.From(result.Drivers, result.DriverFiles), CliJson.From(result.InboxDrivers), CliJson.From(result.Packages),
                    CliJson.Features(result.Packages), result.FirstStart?.Select(c => new FirstStartJson(c.Name, c.Command, c.Good))
                    .ToList(), result.Locale, result.Apps?.Select(a => new AppJson(a.Name, a.Version, a.FullName)).ToList(),
                        result.Tidy is null ? null : CliJson.From(result.Tidy), result.Generalized, result.Problems), json => json.ShowJson,
                        () => Show(result, parse.GetValue(only), session));
                return result.Problems.Count > 0 ? ExitCode.NotInOrder : ExitCode.Done;
            });
    }

    private static string ByOrder(OrderOrigin order)
    {
        var title = order.Title.Length > 0 ? $" \"{order.Title}\"" : "";
        return $"by {order.File}{title}, {order.Hash.ToString()[..16]}…";
    }

    private static string StartsBy(ImageFirmware? firmware) => firmware switch
    {
        null => "",
        { Uefi: true, Bios: true } => "UEFI and BIOS",
        { Uefi: true } => "UEFI",
        { Bios: true } => "BIOS",
        _ => "nothing: it has no boot files",
    };

    // Firmware that has secure boot on starts what is signed by somebody whom it trusts.
    private static string BootFiles(ImageFirmware? firmware)
    {
        if (firmware is not { BootFiles: { Count: > 0 } files })
            return "";
        if (firmware.IsSigned)
            return $"signed by {string.Join(", ", files.Select(f => f.Signer).Distinct())}";
        static string Word(string state) => state switch
        {
            "unsigned" => "not signed",
            "wrong-hash" => "not as it was signed",
            _ => "signed wrongly",
        };
        var why = files.Where(f => f.State != BootFile.Signed).Select(f => $"{f.Path.Split('/')[^1]} is {Word(f.State)}");
        return $"not to be started with secure boot: {string.Join(", ", why)}";
    }

    private static void Show(ShowResult result, string? only, Session session)
    {
        var first = true;
        void Part(string name, string heading, Action print)
        {
            if (only is not null && only != name)
                return;
            if (!first)
                Session.Line();
            first = false;
            if (only is null && heading.Length > 0)
            {
                Session.Line($"== {heading}");
                Session.Line();
            }
            print();
        }
        var image = result.Image;
        var nothing = result.Problems.Count > 0 ? "  damaged" : "  the image holds no Windows";
        Part("record", "", () => Fields.Print(session,
            ("image", $"{image.Number} \"{image.Name}\""), ("version", image.Version),
            ("channels", string.Join(", ", image.Channels ?? [])), ("marks", ListColumn.Marks(image)), ("edition", image.Edition),
            ("note", image.Note),
            ("labels", string.Join(", ", image.Labels.Select(l => $"{l.Key}={l.Value}"))),
            ("Windows", image.Product.Length > 0 ? $"{image.Product}, build {image.Build}, {image.Architecture}" : "none"),
            ("signed by", string.Join(", ", (image.Signatures ?? []).Select(s => result.BadSignatures.TryGetValue(s.Signer, out var bad)
                ? $"NOT {s.Signer}: {bad}" : $"{s.Signer}, {Text.Time(s.Time)}"))),
            ("starts by", StartsBy(image.Firmware)), ("boot files", BootFiles(image.Firmware)),
            ("generalized", result.Generalized is > 0 and var times ? Text.Count(times, "time") : ""),
            ("generalized for", image.VirtualOnly == true ? "the same virtual hardware alone" : ""),
            ("drivers for", string.Join(", ", image.Models ?? [])),
            ("languages", string.Join(", ", image.Languages)), ("computer name", image.ComputerName), ("state", Fields.State(image.State)),
            ("not trusted", string.Join(", ", (image.UnsignedDrivers ?? []).Select(u => $"driver {u.OriginalInf} ({u.Inf}, {u.State})"))),
            ("holds", $"{Text.Count(image.Files, "file")} in {Text.Count(image.Folders, "folder")}, {Text.Size(image.Bytes)}"),
            ("compacted", image.Compacted is { } compacted ? $"on the reference, {Text.Compacted(compacted)}" : ""),
            ("adds", $"{Text.Size(image.BytesAdded)} to the archive"), ("from", $"{image.Origin.Kind} {image.Origin.From}"),
            ("made", Text.Time(image.Created)), ("root", image.Root.ToString())));
        Part("programs", "Programs", () =>
        {
            if (result.Programs is not { Count: > 0 } programs)
            {
                Session.Line(result.Programs is null ? nothing : "  none");
                return;
            }
            var table = new Table("Name", "Version", "Publisher", "~>Size");
            foreach (var program in programs)
                table.Row(program.Name, program.Version, program.Publisher, program.Bytes is { } bytes ? Text.Size(bytes) : "");
            table.Print(session);
        });
        Part("drivers", "Drivers added", () =>
        {
            if (result.Drivers is not { Count: > 0 } drivers)
            {
                Session.Line(result.Drivers is null ? nothing : "  none");
                return;
            }
            // Their files are looked into only where drivers alone are asked for: that reads them all.
            var table = only == "drivers" ? new Table("Name", "Original", "Provider", ">Version", "~Date", "~>Ids", "~Files", "!Signature")
                : new Table("Name", "Original", "Provider", ">Version", "~Date", "~>Ids");
            foreach (var driver in drivers)
            {
                string[] cells = [driver.Inf, driver.OriginalInf, driver.Provider, driver.Version,
                    driver.Date?.ToString("yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture) ?? "",
                    Text.Number(driver.Ids.Count)];
                var marked = image.UnsignedDrivers?.FirstOrDefault(u => u.Inf.Equals(driver.Inf, StringComparison.OrdinalIgnoreCase));
                table.Row(only == "drivers"
                    ? [.. cells, result.DriverFiles.GetValueOrDefault(driver.Inf) ?? "",
                    marked is null ? "trusted when added" : $"NOT TRUSTED, {marked.State}"] : cells);
            }
            table.Print(session);
        });
        if (only == "drivers" && result.InboxDrivers is { Count: > 0 } inbox)
        {
            Session.Line();
            Session.Line($"Part of Windows: {string.Join(", ", inbox.Select(d => d.Inf))}");
        }
        void Listed<T>(string name, string heading, IReadOnlyList<T>? items, string[] columns, Func<T, string[]> row)
        {
            // Without being asked for, only what is there.
            if (only is null && items is not { Count: > 0 })
                return;
            Part(name, heading, () =>
            {
                if (items is not { Count: > 0 })
                {
                    Session.Line(items is null ? nothing : "  none");
                    return;
                }
                var table = new Table(columns);
                foreach (var item in items)
                    table.Row(row(item));
                table.Print(session);
            });
        }
        if (only == "apps")
            Listed("apps", "Apps for new users", result.Apps, ["Name", ">Version", "Full name"], a => [a.Name, a.Version, a.FullName]);
        if (only == "tidy")
        {
            Listed("tidy", "", result.Tidy, ["Rule", "Takes out", ">Bytes", "Here"],
                t => [t.What, TidyRule.All.First(r => r.Name == t.What).Title, t.Bytes == 0 ? "" : Text.Size(-t.Bytes),
                    t.Status == ChangeStatus.Already ? "nothing" : AdviceText.With(t.Why, t.Advice)]);
            Session.Line();
            Session.Line("'vembar service IMAGE --tidy RULE' does it.");
        }
        Listed("packages", "Packages", CliJson.From(result.Packages), ["Name", ">Version", "Title", "Kind", "State"],
            p => [p.Name, p.Version, p.Title, p.Kind, p.ReplacedBy is null ? "in use" : $"replaced by {p.ReplacedBy}"]);
        Listed("features", "Features", CliJson.Features(result.Packages) is { } brought ? FeaturesCommand.Tree(brought).ToList() : null,
            ["Name", "State", "Title", "Package"], f => FeaturesCommand.Row(f, CliJson.Features(result.Packages)!));
        Listed("first-start", "At the first start", result.FirstStart, ["Name", "Command", "Good exit codes"],
            c => [c.Name, c.Command, string.Join(", ", c.Good)]);
        if (result.Locale is { } locale && (only is "languages" || (only is null && locale.Languages.Count > 0)))
        {
            Part("languages", "Languages",
                () => Fields.Print(session, ("there are", string.Join(", ", locale.Languages)), ("display", locale.Display),
                    ("system", locale.System), ("new users", locale.User),
                ("keyboard", locale.Keyboard), ("time zone", locale.TimeZone)));
        }
        Part("history", "History", () =>
        {
            var table = new Table("Time", "Action", "Details");
            foreach (var entry in image.History)
            {
                var details = entry.Order is { } order ? [ByOrder(order), .. entry.Details] : entry.Details;
                table.Row(Text.Time(entry.Time), entry.Action, details.Count > 0 ? details[0] : "");
                foreach (var detail in details.Skip(1))
                    table.Row("", "", detail);
            }
            table.Print(session);
        });
        if (result.Problems.Count == 0)
            return;
        Session.Line();
        foreach (var problem in result.Problems)
            Session.Line($"damaged: {Text.Safe(problem)}");
        Session.Line("What is shown is what of it is sound. Such an image is not serviced: take the install from another copy.");
    }
}
