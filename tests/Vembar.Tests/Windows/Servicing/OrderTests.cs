using CsCheck;
using Vembar.Common;
using Vembar.Images.Paths;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Operations.Service;
using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Orders;
using Vembar.Windows.Servicing.Packages;
using Xunit;

namespace Vembar.Tests;

public class OrderTests(DemoFixture demo)
{
    private static ServiceResult Run(string image, WorkOrder order, bool keepGoing = false, bool plan = false) => Do.Service(
        new ServiceRequest
        {
            Image = ImageReference.Parse(image),
            Changes = order.Changes,
            Order = order.Origin,
            InPlace = !plan,
            KeepGoing = keepGoing,
            PlanOnly = plan,
        }, NoProgress.Instance, CancellationToken.None);

    private string ReadingRoom(TempFolder folder)
    {
        Do.Capture(demo.Reference("reading-room"), folder.At("room.vmb"), "Reading room");
        return folder.At("room.vmb");
    }

    [Fact]
    public void TheReadingRoomsOrderIsMadeOnceAndItsPackagesCanBeTakenBack()
    {
        using var folder = new TempFolder();
        var archive = ReadingRoom(folder);
        Do.Service(archive, null, new PackageChange([demo.At("packages/lanternview-2.6.1.zip")]));
        var order = WorkOrder.Read(demo.At("orders/reading-room.yaml"));
        Assert.Equal((16, "Reading room, September 2026"), (order.Count, order.Title));
        var done = Run(archive, order);
        Assert.All(done.Changes, c => Assert.Equal((c.What, ChangeStatus.Done), (c.What, c.Status)));
        Assert.Contains(done.Changes, c => c.Why.Contains("in place of lanternview-update 2.6.1", StringComparison.Ordinal));
        // Hives that other readers take for sound.
        Do.WithTree(archive, 1, tree =>
        {
            foreach (var hive in (string[])["SYSTEM", "SOFTWARE"])
            {
                File.WriteAllBytes(folder.At(hive), tree.ReadFile(WindowsPath.Parse($"Windows/System32/config/{hive}"), 1 << 28)!);
                Assert.Equal(0, Tools.Try("regfexport", [folder.At(hive)]).Code);
            }
            return 0;
        });
        Assert.Contains("pl-PL", Tools.Run("reglookup", ["-p", "/ControlSet001/Control/MUI/UILanguages", folder.At("SYSTEM")]),
            StringComparison.Ordinal);
        var before = File.ReadAllBytes(archive);
        var again = Run(archive, order);
        Assert.All(again.Changes, c => Assert.Equal((c.What, ChangeStatus.Already), (c.What, c.Status)));
        Assert.Equal(before, File.ReadAllBytes(archive));
        // What the order was stands in the history.
        var entry = Do.Show(ImageReference.Parse(archive)).Image.History[^1];
        Assert.Equal(Tools.Run("b3sum", ["--no-names", demo.At("orders/reading-room.yaml")]).Trim(), entry.Order!.Hash.ToString());
        Assert.Equal(("reading-room.yaml", "cy-GB"), (entry.Order.File, entry.Order.Variables!["language"]));
        // Each package by itself: in and out again is the very tree.
        foreach (var (file, name) in new[] { ("polish-1.0", "polish"), ("lanternview-2.7", "lanternview"),
            ("house-settings-1.0", "house-settings") })
        {
            var other = folder.At($"{name}.vmb");
            File.Copy(demo.Archive, other);
            var root = Do.Show(ImageReference.Parse(other)).Image.Root;
            Do.Service(other, null, new PackageChange([demo.At($"packages/{file}.zip")]));
            Assert.NotEqual(root, Do.Show(ImageReference.Parse(other)).Image.Root);
            Assert.Equal(root, Do.Service(other, null, new PackageRemoval(name)).Image.Root);
        }
    }

    [Fact]
    public void VariablesStandWhereverTheyAreNamed()
    {
        using var folder = new TempFolder();
        folder.Write("staithe.txt", "x");
        var file = folder.Write("o.yaml",
            "title: ${branch}\nvariables:\n  branch: staithe\n  where: Users/Public\nchanges:\n  - put: ${branch}.txt\n    to: "
            + "${where}/$${branch}.txt\n");
        var order = WorkOrder.Read(file);
        Assert.Equal("staithe", order.Title);
        var archive = demo.CopyArchive(folder);
        Assert.Equal("Users/Public/${branch}.txt", Run(archive, order).Changes.Single().What);
        var other = WorkOrder.Read(file, new OrderOptions { Variables = new Dictionary<string, string> { ["branch"] = "fell" } });
        Assert.EndsWith("fell.txt", other.Files.Single().Path, StringComparison.Ordinal);
        Assert.Equal("fell", other.Origin.Variables!["branch"]);
        Assert.Contains("It has branch, where.", Assert.Throws<VembarException>(() => WorkOrder.Read(file, new OrderOptions
        {
            Variables = new Dictionary<string, string> { ["brunch"] = "x" },
        })).Hint, StringComparison.Ordinal);
    }

    [Fact]
    public void AllMistakesAreToldAtOnceWithTheirLines()
    {
        using var folder = new TempFolder();
        var problem = Assert.Throws<VembarException>(() => WorkOrder.Read(folder.Write("o.yaml", """
            titel: x
            variables:
              branch: staithe
              "2nd": y
            trust: nowhere
            changes:
              - driver: ${brunch}
              - feture: x
              - feature: x
                stat: on
              - put: x
              - first-start: x
                good: fine
              - answers: x
                merge: perhaps
              - remove: a
                put: b
              - registry: ''
            """)));
        string[] expected =
        [
            "line 1: 'titel' is not known here; did you mean 'title'?", "line 4: '2nd' is not a variable",
            "line 7: there is no variable 'brunch'; did you mean 'branch'?",
            "did you mean 'feature'?", "line 9: 'stat' is not known in a 'feature' change; did you mean 'state'?",
            "line 11: a 'put' change needs 'to'", "line 12: 'good' is a list of exit codes",
            "line 14: 'merge' is yes or no", "line 16: it is put and remove at once", "line 18: 'registry' is empty", "line 5: ",
        ];
        var told = string.Join('\n', problem.Details.Prepend(problem.Message));
        Assert.All(expected, e => Assert.Contains(e, told, StringComparison.Ordinal));
    }

    [Fact]
    public void SeveralWordsMayBeAListAndAnEmptyItemIsAMistakeLikeOthers()
    {
        using var folder = new TempFolder();
        var order = WorkOrder.Read(folder.Write("o.yaml", "changes:\n  - tidy: [logs, caches]\n  - locale: cy-GB\n    parts: [display, "
            + "user]\n  - first-start: a.exe\n    good: [0, 3010]\n  - tidy: logs caches\n"));
        Assert.Equal(4, order.Count);
        Assert.Empty(OrderCheck.Run(order));
        var told = Assert.Throws<VembarException>(() => WorkOrder.Read(folder.Write("bad.yaml",
            "changes:\n  - {}\n  - tidy: [logs, cashes]\n  - remove: [a, b]\n  - locale: cy-GB\n    parts: usr\n  - tidy: []\n  - tidy: "
            + "[[a]]\n  - []\n")));
        Assert.Equal(
            [
                "line 2: a change is written as 'kind: value'", "line 3: 'tidy' does not know 'cashes'; did you mean 'caches'?",
                "line 4: 'remove' takes one text and no list; each change is an item of its own",
                "line 5: 'parts' does not know 'usr'; did you mean 'user'?", "line 7: a change is written as 'kind: value'",
                "line 8: a change is written as 'kind: value'", "line 9: a change is written as 'kind: value'",
            ],
            told.Details.Prepend(told.Message[(told.Message.IndexOf("line", StringComparison.Ordinal))..]));
    }

    [Fact]
    public void WhatCanBeKnownWithoutAnImageIsChecked()
    {
        using var folder = new TempFolder();
        folder.Write("bad.reg",
            "Windows Registry Editor Version 5.00\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\x\n[HKEY_LOCAL_MACHINE\\HARDWARE\\y]\n");
        folder.Write("bad.xml", "<unattend");
        folder.Write("ballast.yaml", "- name: games\n  paths: [Games]\n");
        folder.Write("empty/readme.txt", "no driver here");
        folder.Write("here.txt", "x");
        var order = WorkOrder.Read(folder.Write("o.yaml", """
            changes:
              - registry: bad.reg
              - answers: bad.xml
              - package: none.zip
              - driver: empty
              - put: here.txt
                to: ../outside
              - put: here.txt
                to: "C:/x"
              - put: here.txt
                to: a/con
              - put: lost.txt
                to: a
              - remove: ../../etc
              - locale: en-XX
              - time-zone: Europe/London
              - time-zone: GMT Standard Time
              - registry: bad.reg
            """));
        var told = OrderCheck.Run(order);
        string[] expected =
        [
            "registry: *line 2: a key without ']'", "registry: *line 3: *is in no hive", "answers: *bad.xml*", "package: *none.zip*",
            "driver: *empty*", "put: *leads upward*", "put: *names a drive*", "put: 'con' is not a name*",
            "put: there is no *lost.txt'", "remove: *leads upward*", "locale: 'en-XX' is not a locale*",
            "time-zone: Windows calls this time zone 'GMT Standard Time'",
        ];
        Assert.Equal(expected.Length, told.Count);
        foreach (var (problem, form) in told.Zip(expected))
            Assert.Matches("^" + System.Text.RegularExpressions.Regex.Escape(form).Replace("\\*", ".*", StringComparison.Ordinal),
                $"{problem.Kind}: {problem.Problem}");
    }

    [Fact]
    public void WhatIsOptionalHoldsTheOthersBackOnlyUnlessOneKeepsGoing()
    {
        using var folder = new TempFolder();
        folder.Write("a.txt", "a");
        var archive = demo.CopyArchive(folder);
        var order = WorkOrder.Read(folder.Write("o.yaml", "changes:\n  - put: a.txt\n    to: a.txt\n  - package: none.zip\n    optional: "
            + "yes\n  - put: a.txt\n    to: b.txt\n    optional: yes\n"));
        var before = File.ReadAllBytes(archive);
        Assert.True(Run(archive, order).HeldBack);
        Assert.Equal(before, File.ReadAllBytes(archive));
        var plan = Run(archive, order, plan: true);
        Assert.Equal([ChangeStatus.Done, ChangeStatus.Refused, ChangeStatus.Done], plan.Changes.Select(c => c.Status));
        Assert.True(plan.HeldBack);
        var kept = Run(archive, order, keepGoing: true);
        Assert.Equal((true, true, false), (kept.Written, kept.Refused, kept.HeldBack));
        Assert.Equal([ChangeStatus.Done, ChangeStatus.Refused, ChangeStatus.Done], kept.Changes.Select(c => c.Status));
        Assert.Contains("package", kept.Image.History[^1].Details.Single(d => d.Contains("refused", StringComparison.Ordinal)),
            StringComparison.Ordinal);
        // One that is not optional still holds all back.
        order = WorkOrder.Read(folder.Write("o.yaml", "changes:\n  - put: a.txt\n    to: c.txt\n    optional: yes\n  - put: none\n    "
            + "to: x\n"));
        Assert.True(Run(archive, order, keepGoing: true).HeldBack);
    }

    [Fact]
    public void TheSchemaTakesWhatTheProgramTakes()
    {
        using var folder = new TempFolder();
        var schema = folder.Write("schema.json", OrderSchema.Text());
        (int Code, string Output, string Error) Check(string order) =>
            Tools.Try("python3",
            ["-c", "import json,sys,yaml,jsonschema\n"
                + "jsonschema.Draft202012Validator(json.load(open(sys.argv[1])))"
                + ".validate(yaml.safe_load(open(sys.argv[2])))", schema, order]);
        foreach (var order in Directory.EnumerateFiles(demo.At("orders")))
            Assert.Equal((0, ""), (Check(order).Code, Check(order).Error));
        var count = 0;
        foreach (var (text, good) in new[]
        {
            ("changes:\n  - tidy: all\n    optional: yes\n", true), ("changes:\n  - first-start: x\n    good: 0, 3010\n", true),
            ("changes:\n  - first-start: x\n    good: 3010\n", true), ("changes:\n  - feature: x\n    state: off\n", true),
            ("changes: []\n", false), ("changes:\n  - fly: x\n", false), ("changes:\n  - put: x\n", false),
            ("changes:\n  - remove: x\n    to: y\n", false), ("changes:\n  - remove: x\n    put: y\n    to: z\n", false),
            ("chnages:\n  - remove: x\n", false),
        })
        {
            var file = folder.Write($"{count++}.yaml", text);
            Assert.Equal((text, good), (text, Check(file).Code == 0));
            Assert.Equal((text, good), (text, Record.Exception(() => WorkOrder.Read(file)) is null));
        }
    }

    [Fact]
    public void OrdersWithTheFormerWordForTheFirstStartAreRead()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var made = Run(archive,
            WorkOrder.Read(folder.Write("former.yaml", "changes:\n  - first-boot: echo one\n    name: One\n"))).Changes.Single();
        Assert.Equal(("first-start", ChangeStatus.Done), (made.Kind, made.Status));
        var present = WorkOrder.Read(folder.Write("present.yaml", "changes:\n  - first-start: echo one\n    name: One\n"));
        Assert.Equal(ChangeStatus.Already, Run(archive, present).Changes.Single().Status);
        var both = Assert.Throws<VembarException>(() => WorkOrder.Read(folder.Write("both.yaml", "changes:\n  - first-boot: a\n    "
            + "first-start: b\n")));
        Assert.Contains("'first-start' is said twice", both.Message + string.Join('\n', both.Details), StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("*a: x\n*a: y\n", "line 1")]
    [InlineData("changes: &a [*a]\n", "'*a' names nothing that ends before it")]
    [InlineData("title: x\n? *b\n: y\n? *b\n: z\n", "line 2")]
    public void AliasesThatLeadNowhereAreRefused(string text, string expected)
    {
        using var folder = new TempFolder();
        Assert.Contains(expected, Assert.Throws<VembarException>(() => WorkOrder.Read(folder.Write("o.yaml", text))).Message,
            StringComparison.Ordinal);
        // Those that lead somewhere are taken.
        Assert.Equal(2,
            WorkOrder.Read(folder.Write("good.yaml",
            "variables:\n  a: &place Users/Public\nchanges:\n  - remove: *place\n  - remove: x\n")).Count);
    }

    [Fact]
    public void WhateverAnOrderSaysItIsReadOrRefused()
    {
        using var folder = new TempFolder();
        string[] all = ["changes", "title", "variables", "driver", "put", "to", "optional", "yes", "${x}", "${", "$${x}", "-", ":",
            "\n  - ", "\n", "[", "]", "{", "}", "'", "a/../b", "\u0000", "é", "&a", "*a", "!!", "|", "\t"];
        var words = Gen.Int[0, all.Length - 1].Select(i => all[i]);
        words.Array[0, 24].Sample(parts =>
        {
            var file = folder.Write("f.yaml", string.Join(' ', parts));
            try
            {
                WorkOrder.Read(file);
            }
            catch (VembarException problem)
            {
                Assert.NotEqual("", problem.Message);
            }
        }, iter: 3000, threads: 1);
    }
}
