using System.Diagnostics;
using Vembar.Common;
using Vembar.Demo;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Records;
using Vembar.Native.Helpers;
using Vembar.Operations;
using Vembar.Operations.Ready;
using Vembar.Operations.Show;
using Vembar.Volumes.Sources;
using Vembar.Windows.Install;
using Vembar.Windows.Registry;
using Vembar.Windows.Servicing.Drivers;

namespace Vembar.Cli.Commands.Demo;

/// <summary>The demo: every step says what it is for, shows the command that a person would have typed, and runs it as a process of its
/// own.</summary>
internal sealed class DemoStory
{
    private readonly Session _session;
    private readonly string _folder;
    private readonly List<DemoCheckJson> _checks = [];
    private int _step;

    private DemoStory(string folder, Session session)
    {
        _folder = folder;
        _session = session;
    }

    public static async Task<int> RunAsync(string folder, int scale, bool worldOnly, bool disks, Session session)
    {
        if (File.Exists(folder))
            throw VembarException.Input("not-a-folder", $"'{folder}' is a file", "Name a new or empty folder.");
        if (Directory.Exists(folder) && Directory.EnumerateFileSystemEntries(folder).Any())
            throw VembarException.Input("target-not-empty", $"the folder '{folder}' is not empty", "Name a new or empty folder.");
        var clock = Stopwatch.StartNew();
        var story = new DemoStory(folder, session);
        var existed = Directory.Exists(folder);
        (long Files, long Bytes) made;
        try
        {
            made = story.MakeWorld(scale, disks);
        }
        catch (Exception failure) when (!existed && failure is OperationCanceledException or IOException or AggregateException)
        {
            if (Directory.Exists(folder))
                Directory.Delete(folder, recursive: true);
            throw session.Cancellation.IsCancellationRequested ? new OperationCanceledException(session.Cancellation)
                : VembarException.From(failure.InnerException ?? failure, "make the demo in", folder) ?? failure;
        }
        if (!worldOnly)
            await story.WalkAsync().ConfigureAwait(false);
        var ok = story._checks.All(c => c.Ok);
        session.Result(new DemoJson(folder, made.Files, made.Bytes, clock.Elapsed.TotalSeconds, ok, story._checks), json => json.DemoJson,
            () =>
        {
            if (!worldOnly)
                Session.Line(ok
                    ? $"The story is told; everything came out as it should, in {Text.Duration(clock.Elapsed.TotalSeconds)}. Look "
                    + $"around in {folder}." : "Something did not come out as it should; see above.");
        });
        return ok ? ExitCode.Done : ExitCode.NotInOrder;
    }

    private void Say(string text)
    {
        _session.Progress.Clear();
        if (_session.IsTold)
            Session.Line(text);
    }

    private (long Files, long Bytes) MakeWorld(int scale, bool disks)
    {
        Say($"Making the world of Tarn Valley Libraries in {_folder}: three reference installs, as "
            + $"folders{(disks ? " and on virtual disks, with spoiled ones beside them" : "")}; seven driver packages, profiles of "
            + $"three hardware models, answer files, work orders.");
        var clock = Stopwatch.StartNew();
        var made = DemoWorld.Make(_folder, scale, _session.Cancellation);
        if (disks)
            DemoWorld.MakeDisks(_folder, _session.Cancellation);
        Say($"  {Text.Count(made.Files, "file")}, {Text.Size(made.Bytes)}, in {Text.Duration(clock.Elapsed.TotalSeconds)}");
        Say("");
        return made;
    }

    private string At(string path) => Path.Combine(_folder, path);

    private async Task WalkAsync()
    {
        var archive = At("desks.vmb");
        Step("Find out what is on the reference machine's disk: partitions, Windows, its state, what a capture would take.", "survey",
            At("disks/lending-desk.vhdx"));
        Step("May it be captured? Read from the install's own files and hives; the disk is not written to.", "ready",
            At("disks/lending-desk.vhdx"), "--rules", At("house/readiness.yaml"));
        Step("Another one may not: it was started and used again.", 1, "ready", At("spoiled/not-generalized.qcow2"));
        await CheckSpoiledAsync().ConfigureAwait(false);
        Step("Capture the lending desk into a new archive. Page file, temporary files and the like stay out.",
            "capture", At("disks/lending-desk.vhdx"), archive, "--name", "Lending desk", "--version", "2026.09");
        var before = new FileInfo(archive).Length;
        Step("Add the reading room to the same archive. What the two have in common is not stored again.",
            "capture", At("disks/reading-room.vhdx"), archive, "--name", "Reading room", "--version", "2026.09");
        var grown = new FileInfo(archive).Length - before;
        Check("the second edition costs less than half of the first", grown * 2 < before,
            $"{Text.Size(before)}, then {Text.Size(grown)} more");
        Say("");
        Step("Which driver would each device of the three hardware models get? The bookmobiles' tablet has a wireless adapter that "
            + "nothing here is for.", 1,
            "drivers", At("drivers"), "--image", $"{archive}#Lending desk", "--for", At("hardware"), "--trust", At("trust"));
        Step("With one more package, every device that is needed has its driver. Zip files are looked into.",
            "drivers", At("drivers"), At("more-drivers"), "--image", $"{archive}#Lending desk", "--for", At("hardware"), "--trust",
            At("trust"), "--report", At("coverage.html"));
        Step("Give the lending desk the drivers it needs to start and to reach the network, and the answers for its first start. The "
            + "image is changed within the archive; nothing is unpacked.",
            "service", $"{archive}#Lending desk", "--driver", At("drivers/corrin-storage"), "--driver", At("drivers/corrin-network"),
            "--trust", At("trust"), "--answers", At("answers/lending-desk.xml"), "--as", "Lending desk, serviced");
        var size = new FileInfo(archive).Length;
        Step("The same again changes nothing.",
            "service", $"{archive}#Lending desk, serviced", "--driver", At("drivers/corrin-storage"), "--driver",
            At("drivers/corrin-network"), "--trust", At("trust"), "--answers", At("answers/lending-desk.xml"), "--in-place");
        Check("servicing twice adds nothing to the archive", new FileInfo(archive).Length == size, Text.Size(size));
        Say("");
        Step("The autumn's packages: an update of the lending client with its features, and house settings. What one needs goes in first.",
            "service", $"{archive}#Lending desk, serviced", "--package", At("packages/shelfmark-7.4.zip"), "--package",
            At("packages/house-settings-1.0.zip"), "--feature", "Lending.Labels=on", "--report", At("autumn.html"), "--as",
            "Lending desk, autumn");
        Step("Taken out again they leave no trace.",
            "service", $"{archive}#Lending desk, autumn", "--package-out", "shelfmark", "--package-out", "house-settings", "--as",
            "Lending desk, after autumn");
        await CheckSameRootAsync(archive, "Lending desk, serviced", "Lending desk, after autumn").ConfigureAwait(false);
        Step("Last spring the reading room got an update of its viewer.",
            "service", $"{archive}#Reading room", "--package", At("packages/lanternview-2.6.1.zip"), "--as", "Reading room, spring");
        Step("Everything else it gets is one work order, kept under version control: drivers, packages, a feature with its parents, a "
            + "language, the time zone, answers made of a profile, branding, settings; and the vendor's ballast goes.",
            "service", $"{archive}#Reading room, spring", "--order", At("orders/reading-room.yaml"), "--report", At("reading-room.html"),
            "--as", "Reading room, serviced");
        var sizeNow = new FileInfo(archive).Length;
        Step("The same order again changes nothing.", "service", $"{archive}#Reading room, serviced", "--order",
            At("orders/reading-room.yaml"), "--in-place");
        Check("the archive is as it was", new FileInfo(archive).Length == sizeNow, Text.Size(sizeNow));
        Say("");
        Step("A last touch by hand: a part of the image is laid open in a folder.",
            "workspace", "open", $"{archive}#Reading room, serviced", At("work"), "--only", "Users/Public");
        Say("   A notice is added with whatever tool is at hand; what was touched is told, read and stored, and nothing else.");
        Say("");
        File.AppendAllText(At("work/Users/Public/Documents/Welcome.txt"), "The reading room is closed on Mondays.\r\n");
        Step("What was changed?", "workspace", "status", At("work"));
        Step("It becomes part of the image.", "workspace", "save", At("work"), "--in-place");
        Step("The folder goes; the image stays.", "workspace", "close", At("work"));
        Step("See what the archive holds now.", "list", archive);
        Versions(archive);
        Step("Check every byte of the archive.", "verify", archive);
        Step("Deploy the serviced lending desk onto the disk of a new machine, with a name of its own, and read it back. The disk is "
            + "divided, formatted, and made one that starts.",
            "deploy", $"{archive}#Lending desk, serviced", At("desk-014.vhdx"), "--size", "3 GiB", "--computer-name", "TVL-DESK-014",
            "--verify");
        Step("Look at that disk as at any other.", "survey", At("desk-014.vhdx"));
        Say("Compared with the reference and with what was changed:");
        await CompareAsync(At("disks/lending-desk.vhdx"), At("desk-014.vhdx")).ConfigureAwait(false);
        Say("");
    }

    // The branches keep what is in production.
    private void Versions(string archive)
    {
        var project = At("vembar.yaml");
        File.WriteAllText(project, """
            archive: desks.vmb
            channels: [pilot, production]
            trust: trust
            hardware: hardware
            sites:
              Staithe: {place: branches/staithe.vmb, channels: production}
              Ashbeck: {place: branches/ashbeck.vmb, channels: [pilot, production], names: ["Lending desk*", "Reading room, monthly"]}

            """);
        Directory.CreateDirectory(At("branches"));
        Say("   A project file says once what holds for all commands: the archive, the channels, and two branches that keep copies.");
        Say("");
        Step("The serviced lending desk goes to the pilot branch, the reading room into production, where it stays.", "mark",
            $"{archive}#Lending desk, serviced", "--channel", "pilot", "--project", project);
        Step("A locked image can neither be dropped nor be replaced.", "mark", $"{archive}#Reading room, serviced", "--channel",
            "production", "--lock", "--project", project);
        Step("What do the branches lack?", ExitCode.NotInOrder, "sites", "--project", project);
        Step("They get it; only what they lack is sent.", "sync", "--project", project);
        Step("Is the reading room what it should be? Expectations are begun from an image that is right.", "check", "--from",
            $"{archive}#Reading room, serviced", "--out", At("reading-room-expected.yaml"));
        Step("And so it is at the branch.", "check", $"{At("branches/staithe.vmb")}#Reading room, serviced@production",
            At("reading-room-expected.yaml"), "--report", At("reading-room-checked.html"));
        Directory.CreateDirectory(At("recipes"));
        File.WriteAllText(At("recipes/reading-room.yaml"), """
            # How next month's image is made: docs/recipes.md.
            title: Reading room, monthly
            from: ../references/reading-room
            capture:
              archive: ../desks.vmb
              name: Reading room, monthly
              note: from build ${build}
            service: ../orders/reading-room.yaml
            expect: ../reading-room-expected.yaml
            mark: {channel: pilot, retire-before: 30}
            sync: all
            keep: 3

            """);
        Step("Next month's image, by a recipe: captured, serviced, checked, in its channel and at the branch.", "build",
            At("recipes/reading-room.yaml"), "--project", project);
        Step("Nothing changed since, so nothing is made, and the archive keeps every byte.", "build", At("recipes/reading-room.yaml"),
            "--project", project);
        Step("What the archive holds by now, what its images share, where room goes: as a page to look at.", "report", archive, "--out",
            At("desks.html"));
    }

    private async Task CheckSameRootAsync(string archive, string one, string other)
    {
        var first = await _session.Do(new RecordHandler(_session.Host), ImageReference.Parse($"{archive}#{one}"));
        var second = await _session.Do(new RecordHandler(_session.Host), ImageReference.Parse($"{archive}#{other}"));
        Check("both images are the same tree, to the byte", first.Root == second.Root, $"root {first.Root.ToString()[..16]}…");
        Say("");
    }

    private async Task CheckSpoiledAsync()
    {
        foreach (var (name, check) in DemoWorld.Spoiled)
        {
            var result = await new ReadyHandler(_session.Host).HandleAsync(new ReadyRequest { Source = At($"spoiled/{name}.qcow2") },
                new System.Progress<OperationProgress>(), _session.Cancellation).ConfigureAwait(false);
            var stops = result.Findings.Where(f => f.Severity == Severity.Stop).ToList();
            Check($"'{name}' is refused for its reason", stops.Count > 0 && stops.All(f => f.Check == check),
                stops.Count > 0 ? stops[0].Found : "nothing was found");
        }
        Say("");
    }

    // The program starts itself, so that the demo shows just what a person would see.
    private void Step(string why, params string[] arguments) => Step(why, ExitCode.Done, arguments);

    private void Step(string why, int expected, params string[] arguments)
    {
        _session.Cancellation.ThrowIfCancellationRequested();
        _step++;
        Say($"{_step}. {why}");
        Say($"   $ vembar {string.Join(' ', arguments.Select(Quoted))}");
        Say("");
        string[] library = Path.GetFileNameWithoutExtension(Environment.ProcessPath) == "dotnet"
            ? [Path.Combine(AppContext.BaseDirectory, "vembar.dll")] : [];
        using var process = HelperProcess.Start(new HelperStart(Environment.ProcessPath!, [.. library, .. arguments]));
        using var stop = _session.Cancellation.Register(() => process.Kill());
        var error = process.Error.ReadToEndAsync();
        var output = process.Output.ReadToEnd();
        process.WaitForExit();
        _session.Cancellation.ThrowIfCancellationRequested();
        foreach (var line in (output + error.Result).TrimEnd().Split('\n'))
            Say(line.Length > 0 ? $"   {line}" : "");
        Say("");
        _checks.Add(new DemoCheckJson($"vembar {arguments[0]}", process.ExitCode == expected, $"exit code {process.ExitCode}"));
        if (process.ExitCode != expected)
            throw VembarException.Input("demo-failed", $"step {_step} of the demo ended with exit code {process.ExitCode}",
                "What it printed stands above.");
    }

    private static string Quoted(string argument) =>
        argument.Contains(' ')
        ? argument.Contains('#') ? $"{argument[..(argument.IndexOf('#') + 1)]}\"{argument[(argument.IndexOf('#') + 1)..]}\""
        : $"\"{argument}\"" : argument;

    private void Check(string what, bool ok, string found)
    {
        _checks.Add(new DemoCheckJson(what, ok, found));
        Say($"   {(ok ? "yes" : "NO")}: {what} ({found})");
    }

    private async Task CompareAsync(string reference, string deployed)
    {
        using var before = ResolvedSource.Open(reference, null);
        using var after = ResolvedSource.Open(deployed, null);
        var options = new WalkOptions { Exclusions = new Exclusions([], keepAll: false) };
        async Task<Dictionary<string, SourceNode>> NodesAsync(ISource source) =>
            Flat((await source.WalkAsync(options, _session.Cancellation).ConfigureAwait(false)).Root).ToDictionary(n => n.Path.ToString());
        var expected = await NodesAsync(before.Source).ConfigureAwait(false);
        var found = await NodesAsync(after.Source).ConfigureAwait(false);
        var changed = expected.Where(e => !found.TryGetValue(e.Key, out var f) || !SameBytes(before.Source, e.Value, after.Source, f))
            .Select(e => e.Key).ToList();
        Check("every file of the reference is there unchanged, but for the SYSTEM hive",
            changed is [var only] && only.EndsWith("/SYSTEM", StringComparison.Ordinal),
            $"{Text.Number(expected.Count - changed.Count)} of {Text.Number(expected.Count)} the same");
        var other = expected.Where(e => !changed.Contains(e.Key) && !SameMetadata(e.Value.Entry, found[e.Key].Entry)).Select(e => e.Key)
            .ToList();
        Check("times, attributes, permissions, streams, links, short names are as they were", other.Count == 0,
            other.Count == 0 ? $"{Text.Number(expected.Count)} files" : string.Join(", ", other.Take(5)));
        var added = found.Keys.Where(p => !expected.ContainsKey(p)).ToList();
        Check("added are the drivers and the answer file, nothing else",
            added.All(t => t.Contains("/FileRepository/cor", StringComparison.Ordinal)
            || t.StartsWith("Windows/INF/oem", StringComparison.Ordinal)
            || t is "Windows/System32/drivers/corstor.sys" or "Windows/Panther/unattend.xml"), Text.Count(added.Count, "file"));
        var system = WindowsInstall.OpenHive(after.Source, "Windows", "SYSTEM");
        var drivers = DriverDatabase.Read(system);
        Check("both drivers are in the driver database", drivers.Count == 2,
            string.Join(", ", drivers.Select(d => $"{d.Inf} = {d.OriginalInf} {d.Version}")));
        Check("the storage driver starts with Windows",
            WindowsInstall.ControlSet(system)?.Key(@"Services\corstor")?.GetDword("Start") == 0, "service corstor, start 0");
        const int Longest = 1 << 20;
        var answers = System.Text.Encoding.UTF8.GetString(after.Source.ReadFile(WindowsPath.Parse("Windows/Panther/unattend.xml"), Longest)
            ?? []);
        Check("the answer file gives this machine its name",
            answers.Contains("<ComputerName>TVL-DESK-014</ComputerName>", StringComparison.Ordinal), "TVL-DESK-014");
        var linked = found.Values.GroupBy(n => n.Entry.LinkGroup).Count(g => g.Key != 0);
        var linkedBefore = expected.Values.GroupBy(n => n.Entry.LinkGroup).Count(g => g.Key != 0);
        Check("hard-linked files are hard-linked again", linked == linkedBefore, $"{Text.Number(linked)} of {Text.Number(linkedBefore)}");
    }

    private static IEnumerable<SourceNode> Flat(SourceNode folder) =>
        folder.Children!.SelectMany(c => c.Children is { Count: > 0 } ? Flat(c) : [c]);

    private static bool SameMetadata(TreeEntry a, TreeEntry b) =>
        a.Attributes == b.Attributes && a.Created == b.Created && a.Modified == b.Modified && a.Accessed == b.Accessed
        && a.Changed == b.Changed && a.ShortName == b.ShortName
        && a.SameSecurityAs(b) && (a.Reparse ?? []).AsSpan().SequenceEqual(b.Reparse)
        && (a.ObjectId ?? []).AsSpan().SequenceEqual(b.ObjectId) && a.ExtendedAttributes.Count == b.ExtendedAttributes.Count
        && a.StreamNames.SequenceEqual(b.StreamNames);

    private static bool SameBytes(ISource one, SourceNode a, ISource other, SourceNode b)
    {
        if (a.Kind != b.Kind || a.Length != b.Length)
            return false;
        if (a.Kind != EntryKind.File)
            return true;
        using var left = one.Open(a);
        using var right = other.Open(b);
        var bytes = new byte[1 << 16];
        var others = new byte[1 << 16];
        for (var at = 0L; at < a.Length;)
        {
            var count = left.Read(bytes, at);
            if (count == 0 || right.Read(others.AsSpan(0, count), at) != count
                || !bytes.AsSpan(0, count).SequenceEqual(others.AsSpan(0, count)))
                return false;
            at += count;
        }
        return true;
    }
}
