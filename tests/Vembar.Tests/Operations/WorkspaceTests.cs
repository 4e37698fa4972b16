using System.Diagnostics;
using CsCheck;
using Vembar.Common;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Operations.Workspaces;
using Vembar.Store.Hashing;
using Vembar.Store.Reading;
using Xunit;

namespace Vembar.Tests;

public class WorkspaceTests(DemoFixture demo, DemoDisks disks)
{
    private static WorkspaceOpened Open(string image, string folder, params string[] only) =>
        Do.OpenWorkspace(ImageReference.Parse(image), folder, only, NoProgress.Instance, CancellationToken.None);

    private static WorkspaceStatus Status(string folder, string? archive = null) =>
        Do.WorkspaceStatus(folder, archive, NoProgress.Instance, CancellationToken.None);

    private static WorkspaceSaved Save(string folder, string? name = null, Func<WorkspaceSaveRequest, WorkspaceSaveRequest>? with = null)
    {
        var request = new WorkspaceSaveRequest { Folder = folder, As = name };
        return Do.SaveWorkspace(with is null ? request : with(request), NoProgress.Instance, CancellationToken.None);
    }

    private static int Close(string folder, bool loseChanges = false) =>
        Do.CloseWorkspace(folder, loseChanges, null, NoProgress.Instance, CancellationToken.None);

    private static string Told(WorkspaceStatus status) =>
        string.Join('\n',
        status.Changes.Select(
        c => $"{c.Kind} {(c.From.Length > 0 ? $"{c.From} > " : "")}{c.Path}{(c.What.Count > 0 ? $": {string.Join(", ", c.What)}" : "")}"));

    // An image of a small Linux folder.
    private static string Small(TempFolder folder)
    {
        foreach (var (path, text) in new[] { ("a.txt", "a"), ("b.txt", "b"), ("sub/c.txt", "c"), ("sub/deep/d.txt", "d"),
            ("other/e.txt", "e") })
            folder.Write($"src/{path}", text);
        Tools.Run("sh", ["-c", "ln a.txt hard.txt; ln -s a.txt soft; chmod 640 b.txt; touch -d '2020-01-02 03:04:05.123456789' a.txt sub"],
            folder.At("src"));
        Do.Capture(folder.At("src"), folder.At("a.vmb"));
        return folder.At("a.vmb");
    }

    // Names, types, modes, times of files and links, and content, as find and b3sum see them.
    private static string Listing(string folder) => Tools.Run("sh",
        ["-c", "find . -path ./.vembar-workspace -prune -o \\( -type f -printf '%p %m %T@ %s\\n' -o -type l -printf '%p %T@ %l\\n' -o "
        + "-printf '%p %m\\n' \\) | LC_ALL=C sort; find . -path ./.vembar-workspace -prune -o -type f -print0 | LC_ALL=C sort -z | xargs "
        + "-0 -r b3sum"], folder);

    [Fact]
    public void WhatIsNotTouchedIsNotReadAndIsTheSameImage()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var opened = Open(archive, folder.At("w"));
        Assert.Equal(opened.Image.Files, opened.Files);
        var status = Status(folder.At("w"));
        Assert.Equal(("", 0L), (Told(status), status.FilesRead));
        var before = File.ReadAllBytes(archive);
        Assert.False(Save(folder.At("w")).Written);
        Assert.Equal(before, File.ReadAllBytes(archive));
        Assert.Equal(opened.Image.Root, Save(folder.At("w"), "same").Image.Root);
        Assert.Equal(0, Close(folder.At("w")));
        Assert.False(Directory.Exists(folder.At("w")));
    }

    [Fact]
    public void ChangesAreToldAndSavedAndNothingElseIs()
    {
        using var folder = new TempFolder();
        var archive = Small(folder);
        Open(archive, folder.At("w"));
        Tools.Run("sh", ["-e", "-c", """
            printf changed > b.txt; printf new > sub/new.txt; rm other/e.txt; mv sub/deep sub/moved; mkdir fresh
            mv sub/c.txt fresh/; chmod 600 soft a.txt
            touch -h -d '2024-05-06' soft; rm soft; ln -s b.txt soft; ln -s nowhere link; setfattr -n user.note -v hello fresh/c.txt
            """], folder.At("w"));
        var status = Status(folder.At("w"));
        Assert.Equal("""
            Changed a.txt: owner
            Changed b.txt: content
            Added fresh
            Moved sub/c.txt > fresh/c.txt: extended attributes
            Changed hard.txt: owner
            Added link
            Removed other/e.txt
            Changed soft: link
            Moved sub/deep > sub/moved
            Added sub/new.txt
            """.ReplaceLineEndings("\n"), Told(status));
        // a, hard and soft have another change time, b another content; what was moved is looked at again.
        Assert.InRange(status.FilesRead, 2, 5);
        var saved = Save(folder.At("w"));
        Assert.Equal(("one", 1, "workspace"), (saved.Image.Name, saved.Image.Number, saved.Image.History[^1].Action));
        Assert.Equal("", Told(Status(folder.At("w"))));
        Assert.True(Do.Verify(archive).Ok);
        Do.Deploy(archive, folder.At("out"));
        Assert.Equal(Listing(folder.At("w")), Listing(folder.At("out")));
        Assert.Equal("hello", Tools.Run("getfattr", ["--only-values", "-n", "user.note", folder.At("out/fresh/c.txt")]));
        // The hard link is one file still.
        Assert.Equal("2", Tools.Run("stat", ["-c", "%h", folder.At("out/a.txt")]).Trim());
        // And it goes on from there.
        File.WriteAllText(folder.At("w/b.txt"), "again");
        Assert.Equal("Changed b.txt: content", Told(Status(folder.At("w"))));
    }

    [Fact]
    public void HardLinkedFilesWrittenInPlaceStayOneAndReplacedOnesPart()
    {
        using var folder = new TempFolder();
        var archive = Small(folder);
        Open(archive, folder.At("w"));
        File.WriteAllText(folder.At("w/hard.txt"), "both");
        Assert.Equal("Changed a.txt: content\nChanged hard.txt: content", Told(Status(folder.At("w"))));
        Save(folder.At("w"));
        Do.Deploy(archive, folder.At("one"));
        Assert.Equal(("both", "2"),
            (File.ReadAllText(folder.At("one/a.txt")), Tools.Run("stat", ["-c", "%h", folder.At("one/hard.txt")]).Trim()));
        File.WriteAllText(folder.At("w/beside"), "one alone");
        File.Move(folder.At("w/beside"), folder.At("w/hard.txt"), overwrite: true);
        Assert.Equal("Changed hard.txt: content", Told(Status(folder.At("w"))));
        var saved = Save(folder.At("w"));
        Do.Deploy(archive, folder.At("two"));
        Assert.Equal(("both", "one alone", "1"), (File.ReadAllText(folder.At("two/a.txt")), File.ReadAllText(folder.At("two/hard.txt")),
            Tools.Run("stat", ["-c", "%h", folder.At("two/hard.txt")]).Trim()));
        Assert.Equal(new DirectoryInfo(folder.At("two")).EnumerateFiles("*", SearchOption.AllDirectories).Where(f => f.LinkTarget is null)
            .Sum(f => f.Length), saved.Image.Bytes);
    }

    [Fact]
    public void WhatLinuxCannotHoldStaysWithTheFiles()
    {
        using var folder = new TempFolder();
        var archive = folder.At("d.vmb");
        Do.Capture(disks.LendingDesk, archive, "Lending desk");
        Open(archive, folder.At("w"));
        T Entries<T>(int number, Func<ImageTree, T> look) => Do.WithTree(archive, number, look);
        var before = Entries(1, t => t.Walk(t.Root, WindowsPath.Root).ToDictionary(e => e.Path.ToString(), e => e.Entry));
        var (withStream, streamed) = before.First(e => e.Value is { Kind: EntryKind.File, Streams.Count: > 0, LinkGroup: 0 });
        var (withName, named) =
            before.First(e => e.Value is { Kind: EntryKind.File, ShortName: not null, LinkGroup: 0, Reparse: null, Streams.Count: 0 });
        File.AppendAllText(folder.At($"w/{withStream}"), "more");
        File.Move(folder.At($"w/{withName}"), folder.At("w/Users/Public/moved.bin"));
        var status = Status(folder.At("w"));
        Assert.Equal(2, status.Changes.Count);
        Save(folder.At("w"), "by hand");
        var after = Entries(2, t => t.Walk(t.Root, WindowsPath.Root).ToDictionary(e => e.Path.ToString(), e => e.Entry));
        var now = after[withStream];
        Assert.Equal((streamed.Security, streamed.Created, streamed.Streams[0].Content.Hash, streamed.Length + 4),
            (now.Security, now.Created, now.Streams[0].Content.Hash, now.Length));
        Assert.NotEqual(streamed.Modified, now.Modified);
        static (ChunkId, FileTime?, FileTime?, FileTime?, FileTime?, WindowsAttributes?, string?, ChunkId) Known(TreeEntry e) =>
            (e.Security, e.Created, e.Modified, e.Changed, e.Accessed, e.Attributes, e.ShortName, e.Content!.Hash);
        Assert.Equal(Known(named), Known(after["Users/Public/moved.bin"]));
        // All others are the same to the last bit.
        foreach (var (path, entry) in before.Where(e => e.Key != withStream && e.Key != withName && e.Value.Kind != EntryKind.Folder))
            Assert.Equal((path, entry.Security, entry.Modified, entry.Attributes, entry.LinkGroup, entry.Content!.Hash),
                (path, after[path].Security, after[path].Modified, after[path].Attributes, after[path].LinkGroup,
                after[path].Content!.Hash));
        // Taken back by hand, only the times tell.
        File.Move(folder.At("w/Users/Public/moved.bin"), folder.At($"w/{withName}"));
        Save(folder.At("w"));
        Assert.Equal(Known(named), Known(Entries(2, t => t.Find(WindowsPath.Parse(withName)))!));
    }

    [Fact]
    public void MetadataIsEditedInItsFile()
    {
        using var folder = new TempFolder();
        var archive = folder.At("d.vmb");
        Do.Capture(disks.LendingDesk, archive, "Lending desk");
        Open(archive, folder.At("w"), "Users/Public", "Windows/Panther");
        var file = folder.At("w/.vembar-workspace/metadata.jsonl");
        var lines = File.ReadAllLines(file);
        var at = Array.FindIndex(lines, l => l.Contains("\"path\":\"Users/Public/Documents/Welcome.txt\"", StringComparison.Ordinal));
        var other = System.Text.Json.JsonDocument.Parse(
            lines.First(l => l.Contains("\"descriptor\"", StringComparison.Ordinal))).RootElement.GetProperty("descriptor").GetString();
        var was = lines[at];
        string With(string key, string value) =>
            System.Text.RegularExpressions.Regex.Replace(lines[at], $"\"{key}\":\"[^\"]*\"", $"\"{key}\":\"{value}\"");
        lines[at] = With("attributes", "archive hidden");
        lines[at] = With("created", "2026-09-02T01:02:03.0000001Z");
        lines[at] = With("security", other!);
        File.WriteAllLines(file, lines);
        var status = Status(folder.At("w"));
        Assert.StartsWith("Changed Users/Public/Documents/Welcome.txt: attributes, created", Told(status), StringComparison.Ordinal);
        Assert.Equal(0, status.FilesRead);
        Save(folder.At("w"));
        var entry = Do.WithTree(archive, 1, t => t.Find(WindowsPath.Parse("Users/Public/Documents/Welcome.txt")))!;
        Assert.Equal((WindowsAttributes.Archive | WindowsAttributes.Hidden,
            new DateTime(2026, 9, 2, 1, 2, 3, DateTimeKind.Utc).AddTicks(1)), (entry.Attributes!.Value, entry.Created!.Value.ToDateTime()));
        Assert.Equal(other, entry.Security.ToString()[..other!.Length]);
        Assert.Equal("", Told(Status(folder.At("w"))));
        // What is written into the file while a save is brought to its end stays there.
        void Write(string attributes) =>
            File.WriteAllLines(file,
            File.ReadAllLines(file)
            .Select(l => l.Contains("/Welcome.txt\"", StringComparison.Ordinal) ? With("attributes", attributes) : l));
        Write("archive");
        Killed(folder.At("w"));
        Write("archive system");
        Assert.Equal("Changed Users/Public/Documents/Welcome.txt: attributes", Told(Status(folder.At("w"))));
        Save(folder.At("w"));
        Assert.Equal(WindowsAttributes.Archive | WindowsAttributes.System,
            Do.WithTree(archive, 1, t => t.Find(WindowsPath.Parse("Users/Public/Documents/Welcome.txt")))!.Attributes!.Value);
        foreach (var (bad, expected) in new[]
        {
            (was.Replace("\"attributes\":\"", "\"attributes\":\"shiny ", StringComparison.Ordinal), "are not attributes"),
            (was.Replace("\"attributes\":\"", "\"attributes\":\"compressed ", StringComparison.Ordinal), "'compressed' cannot be set"),
            (was.Replace("Welcome", "Welcum", StringComparison.Ordinal), "is not in the image"), ("{", "it is not a JSON document"),
            ("{}", "it names no entry"), (was + "\n" + was, "stands there twice"),
            ("{\"descriptor\":\"x\",\"bytes\":\"AAAA\"}", "the security descriptor 'x' is not one"),
            (System.Text.RegularExpressions.Regex.Replace(was, "\"security\":\"[^\"]*\"", "\"security\":\"none\""),
            "there is no security descriptor 'none'"),
            (System.Text.RegularExpressions.Regex.Replace(was, "\"created\":\"[^\"]*\"", "\"created\":\"once\""), "'once' is not a time"),
        })
        {
            lines = File.ReadAllLines(file);
            File.WriteAllLines(file, [.. lines.Where(l => !l.Contains("/Welcome.txt\"", StringComparison.Ordinal)), bad]);
            var problems = Status(folder.At("w")).Problems;
            Assert.Contains(problems,
                p => p.StartsWith("metadata, line ", StringComparison.Ordinal) && p.Contains(expected, StringComparison.Ordinal));
            Assert.Equal("workspace-problems", Assert.Throws<VembarException>(() => Save(folder.At("w"))).Code);
            File.WriteAllLines(file, lines);
        }
    }

    [Fact]
    public void APartIsLaidOpenAndTheRestStaysAsItIs()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        Assert.Equal("no-such-path", Assert.Throws<VembarException>(() => Open(archive, folder.At("w"), "Users/Pubic")).Code);
        Assert.False(Directory.Exists(folder.At("w")));
        Open(archive, folder.At("w"), "users/public/Documents", "Windows/Panther/setupact.log");
        Assert.Equal(["./Users/Public/Documents/Staff handbook.txt", "./Users/Public/Documents/Welcome.txt",
            "./Windows/Panther/setupact.log"],
            Tools.Run("find", [".", "-type", "f", "-not", "-path", "*/.vembar-workspace/*"], folder.At("w")).TrimEnd().Split('\n')
            .Order(StringComparer.Ordinal));
        folder.Write("w/Users/Public/Documents/x.txt", "x");
        Assert.Equal("Added Users/Public/Documents/x.txt", Told(Status(folder.At("w"))));
        Save(folder.At("w"));
        Assert.Equal(Do.Show(ImageReference.Parse(demo.Archive)).Image.Files + 1,
            Do.WithTree(archive, 1, t => t.Walk(t.Root, WindowsPath.Root).Count(e => e.Entry.Kind != EntryKind.Folder)));
        Assert.Equal("", Told(Status(folder.At("w"))));
        // What was not laid open cannot be put over by accident.
        folder.Write("w/Windows/System32/x.dll", "x");
        Assert.Equal("'Windows/System32' is in the image, and was not laid open", Status(folder.At("w")).Problems.Single());
    }

    [Fact]
    public void WhatNoImageOrNoWindowsTakesStandsInTheWay()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        Open(archive, folder.At("w"), "Users/Public");
        Tools.Run("sh",
            ["-e", "-c", "mkfifo pipe; echo x > 'Users/Public/a:b'; echo x > Users/Public/Documents/WELCOME.TXT; echo x > "
                + "Users/Public/aux"], folder.At("w"));
        var problems = string.Join('\n', Status(folder.At("w")).Problems);
        foreach (var expected in (string[])["'pipe' is a pipe, socket or device", "'Users/Public/a:b' has a name that Windows cannot open",
            "'Users/Public/Documents/WELCOME.TXT' and 'Welcome.txt' differ in nothing but case", "'Users/Public/aux' has a name"])
            Assert.Contains(expected, problems, StringComparison.Ordinal);
        var before = File.ReadAllBytes(archive);
        Assert.Equal(4, Assert.Throws<VembarException>(() => Save(folder.At("w"))).Details.Count);
        Assert.Equal(before, File.ReadAllBytes(archive));
        // Another case alone is another name of the same file.
        Tools.Run("sh",
            ["-e", "-c", "rm pipe Users/Public/a:b Users/Public/aux Users/Public/Documents/WELCOME.TXT; mv "
            + "Users/Public/Documents/Welcome.txt Users/Public/Documents/WELCOME.TXT"], folder.At("w"));
        Assert.Equal("Moved Users/Public/Documents/Welcome.txt > Users/Public/Documents/WELCOME.TXT", Told(Status(folder.At("w"))));
        Save(folder.At("w"));
        Assert.Contains("WELCOME.TXT", Do.WithTree(archive, 1, t => t.Names(WindowsPath.Parse("Users/Public/Documents"))));
    }

    [Fact]
    public void TwoWorkspacesOfOneImageBecomeTwoImagesOrAreToldOfEachOther()
    {
        using var folder = new TempFolder();
        var archive = Small(folder);
        Open(archive, folder.At("w1"));
        Open(archive, folder.At("w2"));
        File.WriteAllText(folder.At("w1/a.txt"), "first");
        File.WriteAllText(folder.At("w2/a.txt"), "second");
        Save(folder.At("w1"));
        Assert.Contains(Status(folder.At("w2")).Warnings,
            w => w.Text.Contains("was changed by something else since", StringComparison.Ordinal));
        var before = Do.Verify(archive);
        Assert.Equal("image-changed", Assert.Throws<VembarException>(() => Save(folder.At("w2"))).Code);
        Assert.Equal(before.Blocks, Do.Verify(archive).Blocks);
        Assert.Equal("two", Save(folder.At("w2"), "two").Image.Name);
        foreach (var (image, text) in new[] { ("one", "first"), ("two", "second") })
        {
            Do.Deploy($"{archive}#{image}", folder.At(image));
            Assert.Equal(text, File.ReadAllText(folder.At($"{image}/a.txt")));
        }
        // An image that is dropped, and its content gone.
        File.WriteAllText(folder.At("w1/b.txt"), "late");
        Do.Drop(ImageReference.Parse($"{archive}#one"), TimeSpan.Zero);
        Assert.Contains(Status(folder.At("w1")).Warnings, w => w.Text.Contains("was dropped since", StringComparison.Ordinal));
        Assert.Equal("image-changed", Assert.Throws<VembarException>(() => Save(folder.At("w1"))).Code);
        Do.Compact(archive, null, TimeSpan.Zero, NoProgress.Instance, CancellationToken.None);
        Assert.Equal("image-gone", Assert.Throws<VembarException>(() => Status(folder.At("w1"))).Code);
        Assert.Equal("late", File.ReadAllText(folder.At("w1/b.txt")));
    }

    [Fact]
    public void AMovedOrCopiedWorkspaceIsRecognisedAndReadAgain()
    {
        using var folder = new TempFolder();
        var archive = Small(folder);
        Open(archive, folder.At("w"));
        Directory.Move(folder.At("w"), folder.At("moved"));
        var moved = Status(folder.At("moved"));
        Assert.Equal(("", 0L), (Told(moved), moved.FilesRead));
        Assert.Contains("was moved or copied since", moved.Warnings.Single().Text, StringComparison.Ordinal);
        Tools.Run("cp", ["-a", folder.At("moved"), folder.At("copy")]);
        var copied = Status(folder.At("copy"));
        Assert.Equal(("", true), (Told(copied), copied.FilesRead > 0));
        File.Move(archive, folder.At("elsewhere.vmb"));
        Assert.Equal("archive-moved", Assert.Throws<VembarException>(() => Status(folder.At("moved"))).Advice!.Word);
        Assert.Equal("", Told(Status(folder.At("moved"), folder.At("elsewhere.vmb"))));
        Do.Capture(folder.At("src"), folder.At("other.vmb"));
        Assert.Equal("other-archive", Assert.Throws<VembarException>(() => Status(folder.At("moved"), folder.At("other.vmb"))).Code);
    }

    [Fact]
    public void AnUnfinishedHalfDeletedOrDamagedWorkspaceIsToldAndLosesNothing()
    {
        using var folder = new TempFolder();
        var archive = Small(folder);
        Assert.Equal("not-a-workspace", Assert.Throws<VembarException>(() => Status(folder.At("src"))).Code);
        Assert.Equal("target-not-empty", Assert.Throws<VembarException>(() => Open(archive, folder.At("src"))).Code);
        Open(archive, folder.At("w"));
        Assert.Equal("is-a-workspace", Assert.Throws<VembarException>(() => Open(archive, folder.At("w"))).Code);
        var state = folder.At("w/.vembar-workspace/workspace.json");
        var text = File.ReadAllText(state);
        File.WriteAllText(state, text.Replace("\"state\": \"open\"", "\"state\": \"opening\"", StringComparison.Ordinal));
        Assert.Equal("workspace-unfinished", Assert.Throws<VembarException>(() => Save(folder.At("w"))).Code);
        foreach (var bad in (string[])["", "{", "null", text[..(text.Length / 2)],
            text.Replace("\"format\": 1", "\"format\": 9", StringComparison.Ordinal)])
        {
            File.WriteAllText(state, bad);
            Assert.Contains(Assert.Throws<VembarException>(() => Status(folder.At("w"))).Code,
                (string[])["workspace-damaged", "newer-workspace"]);
        }
        File.WriteAllText(state, text);
        var laid = Directory.EnumerateFiles(folder.At("w/.vembar-workspace"), "laid-*").Single();
        var bytes = File.ReadAllBytes(laid);
        var random = new Random(7);
        for (var i = 0; i < 200; i++)
        {
            var spoiled = bytes.ToArray();
            spoiled[random.Next(bytes.Length)] ^= (byte)(1 << random.Next(8));
            File.WriteAllBytes(laid, i % 2 == 0 ? spoiled : bytes[..random.Next(bytes.Length)]);
            Assert.Equal("workspace-damaged", Assert.Throws<VembarException>(() => Status(folder.At("w"))).Code);
        }
        File.WriteAllBytes(laid, bytes);
        // A deletion that was cut short.
        foreach (var gone in (string[])["a.txt", "b.txt", "hard.txt", "sub/c.txt"])
            File.Delete(folder.At($"w/{gone}"));
        Assert.Contains(Status(folder.At("w")).Warnings, w => w == "4 of 7 files that were laid open are gone");
        Assert.Equal("much-is-gone", Assert.Throws<VembarException>(() => Save(folder.At("w"))).Code);
        Assert.True(Save(folder.At("w"), "meant", r => r with { AcceptRemovals = true }).Written);
        // What is not saved keeps the folder.
        File.WriteAllText(folder.At("w/other/e.txt"), "unsaved");
        Assert.Equal("not-saved", Assert.Throws<VembarException>(() => Close(folder.At("w"))).Code);
        Assert.Equal("unsaved", File.ReadAllText(folder.At("w/other/e.txt")));
        Directory.CreateSymbolicLink(folder.At("w/out"), folder.At("src"));
        Assert.Equal(2, Close(folder.At("w"), loseChanges: true));
        Assert.Equal((false, true), (Directory.Exists(folder.At("w")), File.Exists(folder.At("src/a.txt"))));
    }

    [Fact]
    public void ASaveThatWasStoppedBehindItsCommitIsRecognised()
    {
        using var folder = new TempFolder();
        var archive = Small(folder);
        Open(archive, folder.At("w"));
        File.WriteAllText(folder.At("w/b.txt"), "changed");
        Tools.Run("cp", ["-a", folder.At("w/.vembar-workspace"), folder.At("own")]);
        var root = Save(folder.At("w")).Image.Root;
        Directory.Delete(folder.At("w/.vembar-workspace"), recursive: true);
        Tools.Run("cp", ["-a", folder.At("own"), folder.At("w/.vembar-workspace")]);
        Assert.Equal("Changed b.txt: content", Told(Status(folder.At("w"))));
        var again = Save(folder.At("w"));
        Assert.Equal((root, 2), (again.Image.Root, again.Image.History.Count));
        Assert.Equal("", Told(Status(folder.At("w"))));
        Assert.Contains(Directory.EnumerateFiles(folder.At("w/.vembar-workspace"), "laid-*"),
            f => File.ReadAllText(folder.At("w/.vembar-workspace/workspace.json")).Contains(Path.GetFileName(f), StringComparison.Ordinal));
        // Stopped a step later: only the metadata file had yet to take its place.
        var metadata = folder.At("w/.vembar-workspace/metadata.jsonl");
        File.Move(metadata, metadata + ".new");
        File.WriteAllText(metadata, "older\n");
        Assert.Equal(("", ""), (Told(Status(folder.At("w"))), string.Join('\n', Status(folder.At("w")).Problems)));
        Assert.False(File.Exists(metadata + ".new"));
    }

    [Fact]
    public void ASaveThatWasKilledBehindItsCommitIsBroughtToItsEnd()
    {
        using var folder = new TempFolder();
        var archive = Small(folder);
        Open(archive, folder.At("w"));
        File.WriteAllText(folder.At("w/b.txt"), "changed");
        Killed(folder.At("w"));
        // More was done since, also in the metadata file: that is what is left to save.
        File.WriteAllText(folder.At("w/c.txt"), "new");
        Assert.Equal("Added c.txt", Told(Status(folder.At("w"))).Split(':')[0]);
        var second = Save(folder.At("w"));
        Assert.Equal(3, second.Image.History.Count);
        Assert.Equal(["b.txt", "c.txt"],
            Do.WithTree(archive, 1, t => t.List(t.Root, WindowsPath.Root).Select(c => c.Name).Intersect(["b.txt", "c.txt"]).ToList()));
        // As an image of its own, told once more: it is there already.
        File.WriteAllText(folder.At("w/b.txt"), "again");
        Killed(folder.At("w"), "two");
        var done = Save(folder.At("w"), "two");
        Assert.Equal((2, "two", true, ""), (done.Image.Number, done.Image.Name, done.Written, Told(Status(folder.At("w")))));
        Assert.Equal(2, ArchiveReader.Open(archive).Images.Count);
        // With more changes than it has, that name is taken.
        File.WriteAllText(folder.At("w/b.txt"), "third");
        Killed(folder.At("w"), "three");
        File.WriteAllText(folder.At("w/c.txt"), "more");
        var told = Assert.Throws<VembarException>(() => Save(folder.At("w"), "three"));
        Assert.Equal("the run that was killed had saved image 3 \"three\", and 1 change came since", told.Message);
        Assert.Equal("Changed c.txt: content", Told(Status(folder.At("w"))));
        // Killed before its commit, it is as if it had not begun.
        File.Copy(archive, folder.At("before.vmb"));
        Killed(folder.At("w"), "four");
        File.Copy(folder.At("before.vmb"), archive, overwrite: true);
        Assert.Equal("Changed c.txt: content", Told(Status(folder.At("w"))));
        Assert.Equal(4, Save(folder.At("w"), "four").Image.Number);
        Assert.DoesNotContain(Directory.EnumerateFiles(folder.At("w/.vembar-workspace")),
            f => f.EndsWith("saving", StringComparison.Ordinal) || f.EndsWith("saving.json", StringComparison.Ordinal));
    }

    // Found by a random trial: the other name got the time of the one that was touched.
    [Fact]
    public void ANameThatIsAnotherFileNowIsNoNameOfTheOldOne()
    {
        using var folder = new TempFolder();
        var archive = Small(folder);
        Open(archive, folder.At("w"));
        // The same content, size and time as before, in a file of its own; the first name's file is touched.
        Tools.Run("sh", ["-e", "-c", "cp -p hard.txt copy; rm hard.txt; mv copy hard.txt; touch -d @1700000034 a.txt"], folder.At("w"));
        Assert.Equal("Changed a.txt: time\nChanged hard.txt: hard link", Told(Status(folder.At("w"))));
        Save(folder.At("w"), "two");
        Assert.Equal("", Told(Status(folder.At("w"))));
        Do.Deploy($"{archive}#two", folder.At("out"));
        Assert.Equal(Listing(folder.At("w")), Listing(folder.At("out")));
        Assert.NotEqual(Tools.Run("stat", ["-c", "%i", folder.At("out/a.txt")]),
            Tools.Run("stat", ["-c", "%i", folder.At("out/hard.txt")]));
        var images = ArchiveReader.Open(archive).Images;
        Assert.Equal(images[0].Bytes + 1, images[1].Bytes);
    }

    // A save that ends between the archive's commit and the workspace's own.
    private static void Killed(string folder, string? name = null) => Assert.Throws<UnreachableException>(
        () => Do.SaveWorkspace(new WorkspaceSaveRequest
        {
            Folder = folder,
            As = name,
        }, new EndAt("remembering"), CancellationToken.None));

    private sealed class EndAt(string phase) : IProgress<OperationProgress>
    {
        public void Report(OperationProgress value)
        {
            if (value.Phase == phase)
                throw new UnreachableException();
        }
    }

    private sealed class DoAt(string phase, Action action) : IProgress<OperationProgress>
    {
        public void Report(OperationProgress value)
        {
            if (value.Phase == phase)
                action();
        }
    }

    // What is in the archive is saved, whatever becomes of the workspace: nobody is told that nothing was changed.
    [Fact]
    public void AnErrorAfterTheArchiveHasItSaysThatItIsSaved()
    {
        using var folder = new TempFolder();
        var archive = Small(folder);
        Do.OpenWorkspace(ImageReference.Parse(archive), folder.At("w"), [], NoProgress.Instance, CancellationToken.None);
        folder.Write("w/a.txt", "changed");
        var hidden = folder.At("hidden");
        var problem = Assert.Throws<VembarException>(() => Do.SaveWorkspace(new WorkspaceSaveRequest { Folder = folder.At("w") },
            new DoAt("remembering", () => Directory.Move(folder.At("w/.vembar-workspace"), hidden)), CancellationToken.None));
        Assert.Contains("was saved, and", problem.Message, StringComparison.Ordinal);
        Assert.DoesNotContain("unchanged", problem.Message + problem.Hint, StringComparison.Ordinal);
        // The advice works.
        Directory.Move(hidden, folder.At("w/.vembar-workspace"));
        Assert.True(Save(folder.At("w")).Written);
        Do.Deploy($"{archive}#last", folder.At("out"));
        Assert.Equal("changed", File.ReadAllText(folder.At("out/a.txt")));
    }

    [Fact]
    public void InterruptedLayingOpenLeavesNothing()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        using var stop = new CancellationTokenSource();
        var progress = new Stopping(stop);
        Assert.ThrowsAny<OperationCanceledException>(() => Do.OpenWorkspace(ImageReference.Parse(archive), folder.At("w"), [],
            progress, stop.Token));
        Assert.False(Directory.Exists(folder.At("w")));
    }

    private sealed class Stopping(CancellationTokenSource stop) : IProgress<OperationProgress>
    {
        public void Report(OperationProgress value)
        {
            if (value.Phase == "laying open")
                stop.Cancel();
        }
    }

    // Whatever is done to a workspace, the image that is saved is what lies there.
    [Fact]
    public void AnyWorkByHandIsWhatIsSaved()
    {
        using var folder = new TempFolder();
        var archive = Small(folder);
        string[] names = ["a.txt", "b.txt", "hard.txt", "sub", "sub/c.txt", "sub/deep", "sub/deep/d.txt", "other", "other/e.txt", "new",
            "new/f", "x.txt"];
        var count = 0;
        var step = Gen.Select(Gen.Int[0, 6], Gen.Int[0, names.Length - 1], Gen.Int[0, names.Length - 1], Gen.Int[0, 99]);
        step.Array[1, 12].Sample(steps =>
        {
            var at = $"case{count++}";
            File.Copy(archive, folder.At($"{at}.vmb"));
            var w = folder.At(at);
            Open(folder.At($"{at}.vmb"), w);
            string Quoted(int i) => $"'{names[i]}'";
            foreach (var (kind, one, other, number) in steps)
            {
                Tools.Try("sh", ["-c", kind switch
                {
                    0 => $"printf 'text {number}' > {Quoted(one)}",
                    1 => $"rm -rf {Quoted(one)}",
                    2 => $"mv -T {Quoted(one)} {Quoted(other)}",
                    3 => $"mkdir {Quoted(one)}",
                    4 => $"cp -a -T {Quoted(one)} {Quoted(other)}",
                    5 => $"chmod {(number % 2 == 0 ? "700" : "750")} {Quoted(one)}",
                    _ => $"touch -d @{1_700_000_000 + number} {Quoted(one)}",
                }], w);
            }
            Save(w, "saved", r => r with { AcceptRemovals = true });
            Do.Deploy($"{folder.At($"{at}.vmb")}#saved", folder.At($"{at}.out"));
            Assert.Equal(Listing(w), Listing(folder.At($"{at}.out")));
            Assert.Equal("", Told(Status(w)));
            Assert.True(Do.Verify(folder.At($"{at}.vmb")).Ok);
            Directory.Delete(w, recursive: true);
            Directory.Delete(folder.At($"{at}.out"), recursive: true);
            File.Delete(folder.At($"{at}.vmb"));
        }, iter: 60, threads: 1);
    }
}
