using System.Diagnostics;
using System.Text.Json;
using Vembar.Core;
using Vembar.Core.Archives;
using Vembar.Core.Operations;
using Vembar.Core.Servicing.Drivers;
using Vembar.Core.Sources;
using Vembar.Core.Trees;
using Vembar.Core.Windows;
using Vembar.Demo;

namespace Vembar.Cli.Commands;

/// <summary>The demo: every step says what it is for, shows the command that a person would have typed, and runs it as a process of its own.</summary>
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

    public static int Run(string folder, int scale, bool worldOnly, Session session)
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
            made = story.MakeWorld(scale);
        }
        catch (Exception failure) when (!existed && failure is OperationCanceledException or IOException or AggregateException)
        {
            if (Directory.Exists(folder))
                Directory.Delete(folder, recursive: true);
            throw session.Cancellation.IsCancellationRequested ? new OperationCanceledException(session.Cancellation) : VembarException.From(failure.InnerException ?? failure, "make the demo in", folder) ?? failure;
        }
        if (!worldOnly)
            story.Walk();
        var ok = story._checks.All(c => c.Ok);
        session.Result(new DemoJson(folder, made.Files, made.Bytes, clock.Elapsed.TotalSeconds, ok, story._checks), CliJson.Default.DemoJson, () =>
        {
            if (!worldOnly)
                Session.Line(ok ? $"The story is told; everything came out as it should, in {Text.Duration(clock.Elapsed.TotalSeconds)}. Look around in {folder}." : "Something did not come out as it should; see above.");
        });
        return ok ? ExitCode.Done : ExitCode.NotInOrder;
    }

    private void Say(string text)
    {
        _session.Progress.Clear();
        if (!_session.Json)
            Session.Line(text);
    }

    private (long Files, long Bytes) MakeWorld(int scale)
    {
        Say($"Making the world of Tarn Valley Libraries in {_folder}: three reference installs, four driver packages, answer files, work orders.");
        var clock = Stopwatch.StartNew();
        var made = DemoWorld.Make(_folder, scale, _session.Cancellation);
        Say($"  {Text.Count(made.Files, "file")}, {Text.Size(made.Bytes)}, in {Text.Duration(clock.Elapsed.TotalSeconds)}");
        Say("");
        return made;
    }

    private string At(string path) => Path.Combine(_folder, path);

    private void Walk()
    {
        var archive = At("desks.vmb");
        Step("Find out what there is: which Windows, which state, what a capture would take.", "survey", At("references/lending-desk"));
        Step("Capture the lending desk into a new archive. Page file, temporary files and the like stay out.",
            "capture", At("references/lending-desk"), archive, "--name", "Lending desk", "--version", "2026.09");
        var before = new FileInfo(archive).Length;
        Step("Add the reading room to the same archive. What the two have in common is not stored again.",
            "capture", At("references/reading-room"), archive, "--name", "Reading room", "--version", "2026.09");
        var grown = new FileInfo(archive).Length - before;
        Check("the second edition costs less than half of the first", grown * 2 < before, $"{Text.Size(before)}, then {Text.Size(grown)} more");
        Say("");
        Step("Give the lending desk the drivers it needs to start and to reach the network, and the answers for its first start. The image is changed within the archive; nothing is unpacked.",
            "service", $"{archive}#Lending desk", "--driver", At("drivers/corrin-storage"), "--driver", At("drivers/corrin-network"), "--answers", At("answers/lending-desk.xml"), "--as", "Lending desk, serviced");
        var size = new FileInfo(archive).Length;
        Step("The same again changes nothing.",
            "service", $"{archive}#Lending desk, serviced", "--driver", At("drivers/corrin-storage"), "--driver", At("drivers/corrin-network"), "--answers", At("answers/lending-desk.xml"), "--in-place");
        Check("servicing twice adds nothing to the archive", new FileInfo(archive).Length == size, Text.Size(size));
        Say("");
        Step("See what the archive holds now.", "list", archive);
        Step("Check every byte of it.", "verify", archive);
        Step("Deploy the serviced lending desk into a folder, with a name for this machine, and read it back.",
            "deploy", $"{archive}#Lending desk, serviced", At("deployed"), "--computer-name", "TVL-DESK-014", "--verify");
        Say("Compared with the reference and with what was changed:");
        Compare(At("references/lending-desk"), At("deployed"));
        Say("");
    }

    // The program starts itself, so that the demo shows just what a person would see.
    private void Step(string why, params string[] arguments)
    {
        _session.Cancellation.ThrowIfCancellationRequested();
        _step++;
        Say($"{_step}. {why}");
        Say($"   $ vembar {string.Join(' ', arguments.Select(Quoted))}");
        Say("");
        var start = new ProcessStartInfo(Environment.ProcessPath!) { RedirectStandardOutput = true, RedirectStandardError = true };
        if (Path.GetFileNameWithoutExtension(Environment.ProcessPath) == "dotnet")
            start.ArgumentList.Add(typeof(DemoStory).Assembly.Location);
        foreach (var argument in arguments)
            start.ArgumentList.Add(argument);
        start.ArgumentList.Add("--quiet");
        using var process = Process.Start(start)!;
        using var stop = _session.Cancellation.Register(() => process.Kill());
        var error = process.StandardError.ReadToEndAsync();
        var output = process.StandardOutput.ReadToEnd();
        process.WaitForExit();
        _session.Cancellation.ThrowIfCancellationRequested();
        foreach (var line in (output + error.Result).TrimEnd().Split('\n'))
            Say(line.Length > 0 ? $"   {line}" : "");
        Say("");
        _checks.Add(new DemoCheckJson($"vembar {arguments[0]}", process.ExitCode == 0, $"exit code {process.ExitCode}"));
        if (process.ExitCode != 0)
            throw VembarException.Input("demo-failed", $"step {_step} of the demo ended with exit code {process.ExitCode}", "What it printed stands above.");
    }

    private static string Quoted(string argument) => argument.Contains(' ') ? argument.Contains('#') ? $"{argument[..(argument.IndexOf('#') + 1)]}\"{argument[(argument.IndexOf('#') + 1)..]}\"" : $"\"{argument}\"" : argument;

    private void Check(string what, bool ok, string found)
    {
        _checks.Add(new DemoCheckJson(what, ok, found));
        Say($"   {(ok ? "yes" : "NO")}: {what} ({found})");
    }

    private void Compare(string reference, string deployed)
    {
        using var before = FolderSource.Open(reference);
        using var after = FolderSource.Open(deployed);
        var rules = new Exclusions([], keepAll: false);
        var expected = Flat(before.Walk(rules, null, false, null, _session.Cancellation).Root).ToDictionary(n => n.Path);
        var found = Flat(after.Walk(rules, null, false, null, _session.Cancellation).Root).ToDictionary(n => n.Path);
        var same = expected.Count(e => found.TryGetValue(e.Key, out var f) && f.Length == e.Value.Length && f.Entry.Modified == e.Value.Entry.Modified && SameBytes(Path.Combine(reference, e.Key.ToString()), Path.Combine(deployed, e.Key.ToString())));
        var changed = expected.Keys.Where(p => !found.ContainsKey(p) || found[p].Length != expected[p].Length || !SameBytes(Path.Combine(reference, p.ToString()), Path.Combine(deployed, p.ToString()))).ToList();
        Check("every file of the reference is there unchanged, but for the SYSTEM hive", changed is [var only] && only.Name == "SYSTEM" && same == expected.Count - 1, $"{Text.Number(same)} of {Text.Number(expected.Count)} the same");
        var added = found.Keys.Where(p => !expected.ContainsKey(p)).ToList();
        Check("added are the drivers and the answer file, nothing else", added.All(p => p.ToString() is var t && (t.Contains("/FileRepository/cor", StringComparison.Ordinal) || t.StartsWith("Windows/INF/oem", StringComparison.Ordinal) || t == "Windows/System32/drivers/corstor.sys" || t == "Windows/Panther/unattend.xml")), Text.Count(added.Count, "file"));
        using var system = WindowsInstall.OpenHive(after, "Windows", "SYSTEM");
        var drivers = DriverDatabase.Read(system);
        Check("both drivers are in the driver database", drivers.Count == 2, string.Join(", ", drivers.Select(d => $"{d.Inf} = {d.OriginalInf} {d.Version}")));
        Check("the storage driver starts with Windows", WindowsInstall.ControlSet(system)?.Key(@"Services\corstor")?.GetDword("Start") == 0, "service corstor, start 0");
        var answers = File.ReadAllText(Path.Combine(deployed, "Windows/Panther/unattend.xml"));
        Check("the answer file gives this machine its name", answers.Contains("<ComputerName>TVL-DESK-014</ComputerName>", StringComparison.Ordinal), "TVL-DESK-014");
        var linked = found.Values.GroupBy(n => n.Entry.LinkGroup).Count(g => g.Key != 0);
        var linkedBefore = expected.Values.GroupBy(n => n.Entry.LinkGroup).Count(g => g.Key != 0);
        Check("hard-linked files are hard-linked again", linked == linkedBefore, $"{Text.Number(linked)} of {Text.Number(linkedBefore)}");
    }

    private static IEnumerable<SourceNode> Flat(SourceNode folder) =>
        folder.Children!.SelectMany(c => c.Children is null ? [c] : Flat(c));

    private static bool SameBytes(string a, string b)
    {
        using var left = File.OpenRead(a);
        using var right = File.OpenRead(b);
        if (left.Length != right.Length)
            return false;
        var bytes = new byte[1 << 16];
        var others = new byte[1 << 16];
        int count;
        while ((count = left.Read(bytes)) > 0)
        {
            if (right.ReadAtLeast(others.AsSpan(0, count), count, false) != count || !bytes.AsSpan(0, count).SequenceEqual(others.AsSpan(0, count)))
                return false;
        }
        return true;
    }
}
