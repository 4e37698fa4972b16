using System.CommandLine;
using Vembar.Cli.Json;
using Vembar.Common;
using Vembar.Operations;
using Vembar.Operations.Service;
using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Answers;
using Vembar.Windows.Servicing.Drivers;
using Vembar.Windows.Servicing.Files;
using Vembar.Windows.Servicing.FirstStart;
using Vembar.Windows.Servicing.Languages;
using Vembar.Windows.Servicing.Mending;
using Vembar.Windows.Servicing.Orders;
using Vembar.Windows.Servicing.Packages;
using Vembar.Windows.Servicing.Registry;
using Vembar.Windows.Servicing.Tidying;

namespace Vembar.Cli.Commands.Service;

internal static class ServiceCommand
{
    public static VembarCommand Create()
    {
        var image = SharedOptions.Image();
        var drivers = new Option<string[]>("--driver")
        {
            Description = "Add the driver packages below DIR that fit, also those in packed files (.zip, .cab, .7z, .iso, .tar.*); may "
            + "be given several times",
            HelpName = "DIR",
            DefaultValueFactory = _ => [],
        };
        var driverOut = new Option<string[]>("--driver-out")
        {
            Description = "Take an added driver out: oem3.inf, or its INF's own name; may be given several times",
            HelpName = "NAME",
            DefaultValueFactory = _ => [],
        };
        var driverPath = new Option<string[]>("--driver-path")
        {
            Description = "Lay driver packages where Windows looks when it meets a device, instead of into its driver store",
            HelpName = "DIR",
            DefaultValueFactory = _ => [],
        };
        var models = SharedOptions.For("Add only those drivers that devices of these hardware models would get");
        var trust = SharedOptions.Trust();
        var allowUnsigned = new Option<bool>("--allow-unsigned")
        {
            Description = "Let drivers in that nobody trusted signed, and mark them in the image's record",
        };
        var replaceOlder = new Option<bool>("--replace-older") { Description = "Take older versions of the same driver out of the image" };
        var everyVersion = new Option<bool>("--every-version") { Description = "Add all versions of a driver, not the newest alone" };
        var answers = new Option<string?>("--answers")
        {
            Description = "Check the answer file, or make one of a profile (.yaml), and put it where set-up looks for it",
            HelpName = "FILE",
        };
        var merge = new Option<bool>("--merge") { Description = "With --answers: merge it into the answer file that the image has" };
        var locale = new Option<string[]>("--locale")
        {
            Description = $"Set the language and formats, or a part of them ({string.Join(", ", LocaleChange.Parts)}); may be given "
            + $"several times",
            HelpName = "[PART=]NAME",
            DefaultValueFactory = _ => [],
        };
        var keyboard = new Option<string>("--keyboard")
        {
            Description = "With --locale: a keyboard that is not the language's own",
            HelpName = "0809:00000809",
            DefaultValueFactory = _ => "",
        };
        var timeZone = new Option<string?>("--time-zone") { Description = "Set the time zone by Windows' name", HelpName = "NAME" };
        var ballast = new Option<string[]>("--ballast")
        {
            Description = "Take out what a file of rules names: bundled programs, provisioned apps; may be given several times",
            HelpName = "FILE",
            DefaultValueFactory = _ => [],
        };
        var mend = new Option<string[]>("--mend")
        {
            Description = $"Mend what 'vembar ready IMAGE' finds: all, or some of "
            + $"{string.Join(", ", MendRule.All.Select(r => r.Name))}; may be given several times",
            HelpName = "CHECK",
            DefaultValueFactory = _ => [],
        };
        var tidy = new Option<string[]>("--tidy")
        {
            Description = $"Take out what is not needed any more: all, or some of "
            + $"{string.Join(", ", TidyRule.All.Select(r => r.Name))}; may be given several times",
            HelpName = "RULE",
            DefaultValueFactory = _ => [],
        };
        var packages = new Option<string[]>("--package")
        {
            Description = "Put a package in: a folder or zip file; may be given several times, in any order",
            HelpName = "FILE",
            DefaultValueFactory = _ => [],
        };
        var packageOut = new Option<string[]>("--package-out")
        {
            Description = "Take a package out; what it replaced is back",
            HelpName = "NAME",
            DefaultValueFactory = _ => [],
        };
        var features = new Option<string[]>("--feature")
        {
            Description = "Switch a feature, or those that match a pattern, with what it needs",
            HelpName = "NAME=on|off",
            DefaultValueFactory = _ => [],
        };
        var withDependents = new Option<bool>("--with-dependents")
        {
            Description = "With --feature NAME=off: switch off too what needs it",
        };
        var registry = new Option<string[]>("--registry")
        {
            Description = "Make the changes of a .reg file in the image's hives; may be given several times",
            HelpName = "FILE",
            DefaultValueFactory = _ => [],
        };
        var firstStart = new Option<string[]>("--first-start")
        {
            Description = "Run a command once at the first start, before anybody logs on; may be given several times",
            HelpName = "COMMAND",
            DefaultValueFactory = _ => [],
        };
        var put = new Option<string[]>("--put")
        {
            Description = "Put a file or folder into the image; may be given several times",
            HelpName = "FILE=PATH",
            DefaultValueFactory = _ => [],
        };
        var remove = new Option<string[]>("--remove")
        {
            Description = "Take a path, or what matches a pattern, out of the image; may be given several times",
            HelpName = "PATH",
            DefaultValueFactory = _ => [],
        };
        var order = new Option<string?>("--order")
        {
            Description = "Make the changes that a work order lists, before those above; '-' reads standard input",
            HelpName = "FILE",
        };
        var variables = new Option<string[]>("--set")
        {
            Description = "With --order: give a variable of it another text; may be given several times",
            HelpName = "NAME=TEXT",
            DefaultValueFactory = _ => [],
        };
        var keepGoing = new Option<bool>("--keep-going")
        {
            Description = "With --order: make the others when changes that it marks optional are refused",
        };
        var name = new Option<string?>("--as") { Description = "Make a new image of the result", HelpName = "NAME" };
        var inPlace = new Option<bool>("--in-place") { Description = "Let the result take the image's place" };
        var title = new TitleOptions();
        var report = SharedOptions.Report("Write what was done as an HTML page");
        var plan = new Option<bool>("--plan") { Description = "Only tell what would be done" };
        var effort = SharedOptions.Effort();
        var wait = SharedOptions.Wait();
        return new VembarCommand("service",
            "Change an image offline, within the archive: drivers, packages, features, languages, answer file, registry, files, ballast",
            "vembar service desks.vmb#1 --driver vembar-demo/drivers/corrin-storage --trust vembar-demo/trust --answers "
            + "vembar-demo/answers/lending-desk.xml --as \"Lending desk, serviced\"",
            "vembar service desks.vmb#1 --put vembar-demo/house/opening-hours.txt=Users/Public/Documents/ --remove "
            + "\"Windows/Panther/*.log\" --in-place",
            "vembar service desks.vmb#2 --order vembar-demo/orders/reading-room.yaml --plan",
            "vembar service desks.vmb#2 --locale display=cy-GB --time-zone \"GMT Standard Time\" --tidy all --in-place")
            .With(image)
            .WithSection("Where the result goes", name, inPlace, plan, report, title.Version, title.Note, title.Labels)
            .WithSection("Drivers", drivers, models, driverPath, driverOut, trust, allowUnsigned, replaceOlder, everyVersion)
            .WithSection("Packages and features", packages, packageOut, features, withDependents)
            .WithSection("Answers and settings", answers, merge, locale, keyboard, timeZone, registry, firstStart)
            .WithSection("Files", put, remove)
            .WithSection("What comes out, and what is put right", ballast, tidy, mend)
            .WithSection("Work orders", order, variables, keepGoing)
            .WithSection("The archive", effort, wait, SharedOptions.Base)
            .Does(async (parse, session) =>
            {
                var asName = parse.GetValue(name);
                var replaces = parse.GetValue(inPlace);
                var planOnly = parse.GetValue(plan);
                if (asName is not null && replaces)
                    throw new VembarException(ErrorKind.Usage, "as-or-in-place", "--as and --in-place exclude each other", "Choose one.");
                if (asName is null && !replaces && !planOnly)
                    throw new VembarException(ErrorKind.Usage, "as-or-in-place", "it was not said where the result goes",
                        "Give --as NAME for a new image, --in-place to replace this one, or --plan to look only.");
                var options = new DriverOptions
                {
                    AllowUnsigned = parse.GetValue(allowUnsigned),
                    ReplaceOlder = parse.GetValue(replaceOlder),
                    EveryVersion = parse.GetValue(everyVersion),
                    For = SharedOptions.ProfilesOf(parse.GetRequiredValue(models), session),
                };
                if (options.For.Count > 0 && parse.GetRequiredValue(drivers).Length == 0 && parse.GetValue(order) is null)
                    throw new VembarException(ErrorKind.Usage, "for-what", "--for chooses among drivers, and none were named",
                        "Name folders that hold driver packages with --driver.");
                var trusted = SharedOptions.TrustPaths(parse, trust, session);
                foreach (var (option, given, needs) in ((string, bool, bool)[])[
                    ("--set", parse.GetRequiredValue(variables).Length > 0, parse.GetValue(order) is not null),
                    ("--keep-going", parse.GetValue(keepGoing), parse.GetValue(order) is not null),
                    ("--merge", parse.GetValue(merge), parse.GetValue(answers) is not null),
                    ("--keyboard", parse.GetRequiredValue(keyboard).Length > 0, parse.GetRequiredValue(locale).Length > 0)])
                {
                    if (given && !needs)
                    {
                        var needed = option is "--merge" ? "--answers" : option is "--keyboard" ? "--locale" : "--order";
                        throw new VembarException(ErrorKind.Usage, "option-alone", $"{option} does nothing by itself",
                            $"Give it with {needed}.");
                    }
                }
                var ordered = parse.GetValue(order) is { } file
                    ? WorkOrder.Read(file, new OrderOptions
                    {
                        Trust = trusted,
                        Drivers = options,
                        Variables = SharedOptions.Pairs(parse.GetRequiredValue(variables), "--set"),
                    }) : null;
                options = options with { Trust = DriverTrust.Load(trusted) };
                var request = new ServiceRequest
                {
                    Image = SharedOptions.ImageOf(parse, image, session),
                    Changes =
                    [
                        .. ordered?.Changes ?? [],
                        .. parse.GetRequiredValue(mend) is { Length: > 0 } checks ? [new MendChange(checks)] : (IChange[])[],
                        .. parse.GetRequiredValue(driverOut).Select(d => new DriverRemoval(d)),
                        .. parse.GetRequiredValue(drivers) is { Length: > 0 } folders ? [new DriverChange(folders, options)]
                        : (IChange[])[],
                        .. parse.GetRequiredValue(driverPath) is { Length: > 0 } paths ? [new DriverPathChange(paths, options)]
                        : (IChange[])[],
                        .. parse.GetRequiredValue(packageOut).Select(p => new PackageRemoval(p)),
                        .. parse.GetRequiredValue(packages) is { Length: > 0 } files ? [new PackageChange(files)] : (IChange[])[],
                        .. parse.GetRequiredValue(features).Select(f => Feature(f, parse.GetValue(withDependents))),
                        .. parse.GetValue(answers) is { } answerFile ? [new AnswersChange(answerFile, parse.GetValue(merge))]
                        : (IChange[])[],
                        .. parse.GetRequiredValue(locale)
                        .Select(l => l.Split('=', 2) is [var part, var what]
                            ? new LocaleChange(what, [part], parse.GetRequiredValue(keyboard))
                            : new LocaleChange(l, [], parse.GetRequiredValue(keyboard))),
                        .. parse.GetValue(timeZone) is { } zone ? [new TimeZoneChange(zone)] : (IChange[])[],
                        .. parse.GetRequiredValue(registry).Select(r => new RegistryChange(r)),
                        .. parse.GetRequiredValue(put).Select(PutChange.Parse),
                        .. parse.GetRequiredValue(remove).Select(r => new RemoveChange(r)),
                        .. parse.GetRequiredValue(ballast).Select(b => new BallastChange(b, [])),
                        .. parse.GetRequiredValue(firstStart).Select(c => new FirstStartChange(new FirstStartCommand("", c, [0]))),
                        .. parse.GetRequiredValue(tidy) is { Length: > 0 } rules ? [new TidyChange(rules)] : (IChange[])[],
                    ],
                    KeepGoing = parse.GetValue(keepGoing),
                    Order = ordered?.Origin,
                    As = asName,
                    InPlace = replaces,
                    PlanOnly = planOnly,
                    Title = title.Of(parse, session),
                    Effort = SharedOptions.EffortOf(parse.GetRequiredValue(effort)),
                    Wait = TimeSpan.FromSeconds(parse.GetValue(wait)),
                };
                var page = OutputFile.At(parse.GetValue(report), session, Page.Mark);
                var result = await session.Do(new ServiceHandler(session.Host), request);
                foreach (var change in result.Changes)
                    session.Log($"{change.Kind} {change.What}: {change.Status} ({AdviceText.With(change.Why, change.Advice)})");
                page?.Write(ServicePage.Render(result, planOnly));
                session.Warn(result.Notes);
                var stats = new StoreStats(result.Image.Files, 0, result.Image.Bytes, 0, 0, result.BytesStored, result.Seconds);
                session.Result(
                    new ServiceJson(result.Archive, result.Image, result.Written, planOnly, stats, [], result.Notes,
                        CliJson.From(result.Changes)),
                    json => json.ServiceJson, () => Show(result, planOnly, session));
                return result.Refused ? ExitCode.NotInOrder : ExitCode.Done;
            });
    }

    private static FeatureChange Feature(string text, bool withDependents) => text.Split('=') is [{ Length: > 0 } name, "on" or "off"] parts
        ? new FeatureChange(name, parts[1] == "on", withDependents)
        : throw new VembarException(ErrorKind.Usage, "bad-feature", $"'{text}' is not NAME=on or NAME=off",
        "Write --feature Lending.Labels=on.");

    internal static string Word(ChangeOutcome change, bool plan) =>
        plan && change.Status == ChangeStatus.Done ? "would be done" : change.Status.ToString().ToLowerInvariant();

    // The refused ones first, by name: they are what a plan is looked at for.
    private static string Summary(IReadOnlyList<ChangeOutcome> changes)
    {
        const int MostNamed = 5;
        int Count(ChangeStatus status) => changes.Count(c => c.Status == status);
        var refused = changes.Where(c => c.Status == ChangeStatus.Refused).Select(c => $"{c.Kind} {c.What}").ToList();
        var more = refused.Count > MostNamed ? $" and {refused.Count - MostNamed} more" : "";
        var named = $"{string.Join(", ", refused.Take(MostNamed))}{more}";
        var counts = new[] { (Count(ChangeStatus.Done), "to do"), (Count(ChangeStatus.Already), "already"),
            (Count(ChangeStatus.Skipped), "skipped") };
        var bytes = ServicePage.Bytes(changes.Sum(c => c.Bytes));
        string[] parts =
        [
            .. refused.Count > 0 ? [$"{refused.Count} refused: {named}"] : Array.Empty<string>(),
            string.Join(", ", counts.Where(c => c.Item1 > 0).Select(c => $"{c.Item1} {c.Item2}")),
            bytes,
        ];
        return string.Join("; ", parts.Where(p => p.Length > 0)) + ".";
    }

    private static void Show(ServiceResult result, bool plan, Session session)
    {
        var table = new Table("Change", "What", "!Outcome", "Why", "~>Bytes");
        foreach (var change in result.Changes)
            table.Row(change.Kind, change.What, Word(change, plan), AdviceText.With(change.Why, change.Advice),
                ServicePage.Bytes(change.Bytes));
        table.Print(session);
        Session.Line();
        if (result.Changes.Any(c => c.Kind.StartsWith("driver", StringComparison.Ordinal) && c.Status == ChangeStatus.Refused
            && DriverSignature.Words.Any(w => c.Why.StartsWith(w + ": ", StringComparison.Ordinal))))
            Session.Line("Name the certificates that you trust with --trust, or let such drivers in with --allow-unsigned, which marks "
                + "them in the image's record.");
        if (result.HeldBack)
            session.Verdict(false, $"{Summary(result.Changes)} So nothing {(plan ? "would be" : "was")} written: leave out what is "
                + "refused, or put it right.");
        else if (plan)
            session.Verdict(true, $"{Summary(result.Changes)} This was a plan; nothing was written.");
        else if (!result.Written)
            session.Verdict(true, "Nothing had to be changed; the archive is as it was.");
        else
            session.Verdict(true, $"Image {result.Image.Number} {result.Image.Title} is in {result.Archive}; the archive grew by "
                + $"{Text.Size(result.BytesStored)}{Text.Took(result.Seconds)}.");
    }
}
