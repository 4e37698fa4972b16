using System.Text.RegularExpressions;
using Microsoft.Playwright;
using Vembar.Cli.Tests.Stations;
using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests;

/// <summary>Pages: each a file that needs nothing else, with what the command says.</summary>
public sealed partial class ReportTests(World world) : IDisposable
{
    private readonly TempFolder _folder = new();

    [GeneratedRegex("""<(?:script|link|img|iframe|object)\b[^>]*\b(?:src|href|data)=|@import|url\(|https?://(?!www\.w3\.org/)[a-z]""")]
    private static partial Regex FromElsewhere();

    private static string OwnPart(string page) => page.Split("<!-- Charts:")[0];

    private void IsSelfContained(string name)
    {
        var page = File.ReadAllText(_folder.At(name));
        Assert.Contains("Content-Security-Policy", page, StringComparison.Ordinal);
        Assert.Contains("prefers-color-scheme:dark", page, StringComparison.Ordinal);
        Assert.Empty(FromElsewhere().Matches(OwnPart(page)).Select(m => m.Value));
        Assert.EndsWith("</body></html>\n", page, StringComparison.Ordinal);
    }

    [Fact]
    public void EveryCommandThatWritesAPageWritesOneOfThese()
    {
        var archive = world.CopyArchive(_folder);
        Assert.Equal(0, Vembar.Run("report", archive, "--out", _folder.At("report.html")).Code);
        Assert.Equal(0, Vembar.Run("diff", archive + "#1", archive + "#2", "--report", _folder.At("diff.html")).Code);
        Assert.Equal(0, Vembar.Run("survey", world.At("disks/lending-desk.vhdx"), "--report", _folder.At("survey.html")).Code);
        Assert.Equal(1, Vembar.Run("ready", world.At("spoiled/password-left.qcow2"), "--report", _folder.At("ready.html")).Code);
        Assert.Equal(0, Vembar.Run("verify", archive, "--report", _folder.At("verify.html")).Code);
        foreach (var name in (string[])["report", "diff", "survey", "ready", "verify"])
            IsSelfContained($"{name}.html");
        Assert.Contains("an answer file with a password was left behind", File.ReadAllText(_folder.At("ready.html")),
            StringComparison.Ordinal);
        // Over what such a command wrote; over nothing else.
        Assert.Equal(0, Vembar.Run("report", archive, "--out", _folder.At("diff.html")).Code);
        _folder.Write("mine.html", "<p>mine</p>");
        Assert.Equal(3, Vembar.Run("report", archive, "--out", _folder.At("mine.html")).Code);
        Assert.Equal("<p>mine</p>", File.ReadAllText(_folder.At("mine.html")));
        // A damaged archive is told on its page too.
        using (var file = File.OpenWrite(archive))
        {
            file.Position = file.Length / 2;
            file.Write(new byte[5000]);
        }
        Assert.Equal(3, Vembar.Run("verify", archive, _folder.At("none.vmb"), "--report", _folder.At("verify.html")).Code);
        Assert.Contains("is damaged", File.ReadAllText(_folder.At("verify.html")), StringComparison.Ordinal);
    }

    // --overwrite is for what was written before, not for what is read now, and never for an archive.
    [Fact]
    public void WhatIsReadIsNotWrittenOver()
    {
        var archive = world.CopyArchive(_folder);
        var before = File.ReadAllBytes(archive);
        _folder.Write("expected.yaml", "expect:\n  - state: generalized\n");
        foreach (var line in (string[][])[["report", archive, "--out", archive], ["list", archive, "--log", archive],
            ["verify", archive, "--report", archive], ["survey", world.At("disks/lending-desk.vhdx"), "--report", archive],
            ["package", "make", world.At("packages/shelfmark-7.4"), "--out", archive],
            ["check", archive + "#1", _folder.At("expected.yaml"), "--report", _folder.At("./expected.yaml")]])
            Assert.Equal(3, Vembar.Run([.. line, "--overwrite"]).Code);
        Assert.Equal(before, File.ReadAllBytes(archive));
        Assert.StartsWith("expect:", File.ReadAllText(_folder.At("expected.yaml")), StringComparison.Ordinal);
        _folder.Write("other.txt", "mine");
        Assert.Equal(0, Vembar.Run("report", archive, "--out", _folder.At("other.txt"), "--overwrite").Code);
    }

    [Fact]
    public void FiguresAgreeWithWhatOtherCommandsSay()
    {
        var archive = world.CopyArchive(_folder);
        var report = Vembar.Run("report", archive, "--json").Json;
        var list = Vembar.Run("list", archive, "--all", "--json").Json.GetProperty("images").EnumerateArray().ToList();
        Assert.Equal(new FileInfo(archive).Length, report.GetProperty("fileLength").GetInt64());
        var images = report.GetProperty("images").EnumerateArray().ToList();
        Assert.Equal(list.Select(i => (i.GetProperty("name").GetString(), i.GetProperty("bytes").GetInt64(), i.GetProperty("bytesAdded")
            .GetInt64())), images.Select(i => (i.GetProperty("name").GetString(), i.GetProperty("bytes").GetInt64(),
            i.GetProperty("bytesAdded").GetInt64())));
        Assert.Equal(images[0].GetProperty("shared")[1].GetInt64(), images[1].GetProperty("shared")[0].GetInt64());
        Assert.Equal(Vembar.Run("show", archive + "#1", "--json").Json.GetProperty("programs").GetArrayLength(),
            images[0].GetProperty("programs").GetInt32());
        Assert.Equal(1, Vembar.Run("report", archive, "--space-of", "1", "--json").Json.GetProperty("space")
            .GetProperty("image").GetInt32());
        Assert.Equal(3, Vembar.Run("report", archive, "--space-of", "9").Code);
    }

    // Names come from anywhere; none of them becomes part of the page.
    [Fact]
    public async Task NamesStayNames()
    {
        const string Hostile = "</script><img src=x onerror=document.title='taken'>";
        Directory.CreateDirectory(_folder.At("src/<b>bold<"));
        File.WriteAllText(_folder.At("src/<b>bold</>x<i>.txt"), new string('x', 100));
        var archive = _folder.At("desks.vmb");
        Assert.Equal(0, Vembar.Run("capture", _folder.At("src"), archive, "--name", Hostile).Code);
        Assert.Equal(0, Vembar.Run("capture", _folder.At("src"), archive, "--name", "{{x}} <b>").Code);
        Assert.Equal(0, Vembar.Run("report", archive, "--out", _folder.At("report.html")).Code);
        IsSelfContained("report.html");
        await OpenedAsync("report.html", scripts: true, async page =>
        {
            Assert.Equal("Report on desks.vmb", await page.TitleAsync());
            Assert.Equal(0, await page.Locator("img").CountAsync());
            await Assertions.Expect(page.Locator("td", new() { HasText = Hostile }).First).ToBeVisibleAsync();
        });
    }

    [Fact]
    public async Task ChartsAreDrawnWithScriptsAndWithout()
    {
        var archive = world.CopyArchive(_folder);
        Assert.Equal(0, Vembar.Run("report", archive, "--out", _folder.At("report.html")).Code);
        await OpenedAsync("report.html", scripts: true, async page =>
        {
            foreach (var chart in (string[])["growth", "sharing", "lineage", "folders", "programs", "contents", "history"])
            {
                await Assertions.Expect(page.Locator($"#{chart} .live svg")).ToBeVisibleAsync();
                Assert.True(await page.Locator($"#{chart} .live svg text").CountAsync() > 1, chart);
                await Assertions.Expect(page.Locator($"#{chart} .still")).ToBeHiddenAsync();
            }
            await Assertions.Expect(page.Locator("#growth .live")).ToContainTextAsync("Lending desk");
            // On paper stands what needs no script.
            await page.EmulateMediaAsync(new() { Media = Media.Print });
            await Assertions.Expect(page.Locator("#growth .still svg")).ToBeVisibleAsync();
            await Assertions.Expect(page.Locator("#growth .live")).ToBeHiddenAsync();
        });
        await OpenedAsync("report.html", scripts: false, async page =>
        {
            await Assertions.Expect(page.Locator("#growth .still svg")).ToBeVisibleAsync();
            await Assertions.Expect(page.Locator("#growth .still")).ToContainTextAsync("Lending desk");
            await Assertions.Expect(page.Locator("#lineage .still li").First).ToBeVisibleAsync();
            await Assertions.Expect(page.Locator("#growth .live")).ToBeHiddenAsync();
        });
    }

    [Fact]
    public void SitesAreReportedOn()
    {
        world.CopyArchive(_folder);
        _folder.Write("vembar.yaml", "archive: desks.vmb\nsites:\n"
            + "  Staithe: {place: staithe.vmb, newest: 1}\n  Beck: {place: gone/beck.vmb, newest: 1}\n");
        Ran Report(params string[] more) => Vembar.Finish(Vembar.Start(["report", .. more],
            start => start.WorkingDirectory = _folder.Path));
        var both = Report("Staithe", "Beck", "--from", "desks.vmb", "--out", "sites.html");
        Assert.Equal(1, both.Code);
        IsSelfContained("sites.html");
        var page = File.ReadAllText(_folder.At("sites.html"));
        Assert.Contains("missing: ", page, StringComparison.Ordinal);
        Assert.Contains("cannot be compared", page, StringComparison.Ordinal);
        Assert.Equal(2, Report("Staithe", "desks.vmb").Code);
        Assert.Equal(2, Report("desks.vmb", "--from", "desks.vmb").Code);
        Assert.Equal(0, Report("desks.vmb").Code);
    }

    private async Task OpenedAsync(string name, bool scripts, Func<IPage, Task> look)
    {
        using var playwright = await Playwright.CreateAsync();
        await using var browser = await Browser.OpenAsync(playwright);
        await using var context = await browser.NewContextAsync(new() { JavaScriptEnabled = scripts });
        context.SetDefaultTimeout(90_000);
        var page = await context.NewPageAsync();
        var problems = new List<string>();
        page.Console += (_, message) => problems.Add(message.Type is "error" or "warning" ? message.Text : "");
        page.PageError += (_, problem) => problems.Add(problem);
        page.Request += (_, request) => problems.Add(request.Url.StartsWith("file:", StringComparison.Ordinal)
            || request.Url.StartsWith("data:", StringComparison.Ordinal) ? "" : request.Url);
        await page.GotoAsync($"file://{_folder.At(name)}");
        await look(page);
        Assert.All(problems, p => Assert.Equal("", p));
    }

    public void Dispose() => _folder.Dispose();
}
