using Microsoft.Playwright;
using Vembar.Operations.Stations.Contract;
using Xunit;

namespace Vembar.Cli.Tests.Stations;

/// <summary>The station's page, in Debian's Chromium without a screen.</summary>
[Trait("Set", "Slow")]
public sealed class StationPageTests(World world)
{
    private const string Desk = "oakmere-m4";

    [Fact]
    public async Task AMachineIsApprovedAndWatchedToItsEnd()
    {
        using var station = new RunningStation(world);
        var machine = station.Join(1, Desk);
        station.WaitFor(1, MachineState.Waiting);
        using var playwright = await Playwright.CreateAsync();
        await using var browser = await Browser.OpenAsync(playwright);
        var page = await Browser.PageAsync(browser, station, 1280, 800);
        var mistakes = new List<string>();
        page.PageError += (_, mistake) => mistakes.Add(mistake);
        await page.GetByLabel("Token").FillAsync("vst_wrong");
        await page.GetByRole(AriaRole.Button, new PageGetByRoleOptions { Name = "Sign in" }).ClickAsync();
        await Assertions.Expect(page.GetByText("does not know this token")).ToBeVisibleAsync();
        await Browser.SignInAsync(page, station.Token);

        // Chosen by keyboard, approved with a name and an image.
        await page.GetByLabel($"Choose {station.WaitFor(1, MachineState.Waiting).Id}").PressAsync(" ");
        await page.GetByRole(AriaRole.Button, new PageGetByRoleOptions { Name = "Approve" }).ClickAsync();
        await page.GetByPlaceholder("computer name").FillAsync("TVL-DESK-001");
        await page.GetByLabel("Image").SelectOptionAsync("desks#Lending desk");
        await page.Locator("dialog").GetByRole(AriaRole.Button, new LocatorGetByRoleOptions { Name = "Approve" }).ClickAsync();
        // It is refused, with the reasons; an administrator sets them aside.
        await Assertions.Expect(page.Locator("dialog .problem")).ToContainTextAsync("has no driver");
        foreach (var box in await page.GetByLabel("Set aside").AllAsync())
            await box.CheckAsync();
        await page.Locator("dialog").GetByRole(AriaRole.Button, new LocatorGetByRoleOptions { Name = "Approve" }).ClickAsync();

        // The page sees it end by itself.
        await Assertions.Expect(page.Locator("tbody .state")).ToHaveTextAsync("done");
        Assert.Equal(0, RunningStation.Finish(machine).Code);
        await page.GetByRole(AriaRole.Link, new PageGetByRoleOptions { Name = "TVL-DESK-001" }).ClickAsync();
        await Assertions.Expect(page.Locator("#report")).ToContainTextAsync("Shelfmark");
        Assert.Empty(mistakes);
    }

    // One wave is begun with the program and watched, another is begun on the page and stopped there.
    [Fact]
    public async Task AWaveIsWatchedBegunAndStopped()
    {
        Assert.SkipUnless(Native.Multicast.MulticastSession.IsThere, "libnorm is not installed");
        using var station = new RunningStation(world, more: "waves: { interface: lo, rate: '200 Mbit/s' }\nnames: 'TVL-{number:2}'");
        var id = station.Ok("station", "wave", "Lending desk", "--accept", "no-driver", "--accept", "no-storage-driver", "--begin",
            "2 joined", "--json").Json.GetProperty("id").GetString()!;
        using var playwright = await Playwright.CreateAsync();
        await using var browser = await Browser.OpenAsync(playwright);
        var page = await Browser.PageAsync(browser, station, 1280, 800);
        var mistakes = new List<string>();
        page.PageError += (_, mistake) => mistakes.Add(mistake);
        await Browser.SignInAsync(page, station.Token);
        await page.GetByRole(AriaRole.Link, new PageGetByRoleOptions { Name = "Waves" }).ClickAsync();
        var wave = page.Locator($"[data-wave='{id}']");
        await Assertions.Expect(wave).ToContainTextAsync("waits for 2 machines");
        station.Join(1);
        station.Join(2);
        // The page sees it end by itself.
        await Assertions.Expect(wave.Locator("h3 .state")).ToHaveTextAsync("done",
            new LocatorAssertionsToHaveTextOptions { Timeout = (float)station.Patience.TotalMilliseconds });
        await Assertions.Expect(wave).ToContainTextAsync("2 of 2 machines are done");
        await page.GetByRole(AriaRole.Button, new PageGetByRoleOptions { Name = "Begin a wave" }).ClickAsync();
        await page.GetByLabel("Image").SelectOptionAsync("desks#Lending desk");
        await page.GetByLabel("When so many machines wait for it").FillAsync("20");
        await page.Locator("dialog").GetByRole(AriaRole.Button, new LocatorGetByRoleOptions { Name = "Begin" }).ClickAsync();
        await Assertions.Expect(page.GetByText("waits for 20 machines")).ToBeVisibleAsync();
        await page.GetByRole(AriaRole.Button, new PageGetByRoleOptions { Name = "Stop" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new PageGetByRoleOptions { Name = "Yes" }).ClickAsync();
        await Assertions.Expect(page.Locator("[data-wave] h3 .state").First).ToHaveTextAsync("stopped");
        if (Environment.GetEnvironmentVariable("VEMBAR_WAVES_PICTURE") is { Length: > 0 } picture)
            await page.ScreenshotAsync(new PageScreenshotOptions { Path = picture });
        Assert.Empty(mistakes);
    }

    [Fact]
    public async Task FiveHundredMachinesAreAPage()
    {
        const int Machines = 500;
        using var station = new RunningStation(world);
        using (var people = station.Client())
        {
            await people.ImportAsync([.. Enumerable.Range(1, Machines).Select(n => new ImportRow(RunningStation.Serial(n), $"TVL-{n:000}",
                n % 2 == 0 ? "Staithe" : "Hillside", "Lending desk", new Dictionary<string, string>()))], CancellationToken.None);
        }
        using var playwright = await Playwright.CreateAsync();
        await using var browser = await Browser.OpenAsync(playwright);
        var page = await Browser.PageAsync(browser, station, 1280, 800);
        await Browser.SignInAsync(page, station.Token);
        await Assertions.Expect(page.Locator("#rows tr")).ToHaveCountAsync(Machines);
        // As somebody who is signed in finds it who comes again.
        await page.ReloadAsync();
        await Assertions.Expect(page.Locator("#rows tr")).ToHaveCountAsync(Machines);
        var times = await page.EvaluateAsync<double[]>("() => [performance.getEntriesByName('first-contentful-paint')[0]?.startTime ?? -1, "
            + "performance.now()]");
        TestContext.Current.TestOutputHelper?.WriteLine($"first paint after {times[0]:0} ms, all rows within {times[1]:0} ms");
        await page.GetByLabel("Search").FillAsync("TVL-123");
        await Assertions.Expect(page.Locator("#rows tr")).ToHaveCountAsync(1);
    }

    [Fact]
    public async Task ManyMachinesAreFoundAndNamedAtOnce()
    {
        using var station = new RunningStation(world);
        using var people = station.Client();
        string[] models = ["Oakmere M4", "Wharf 11", "Fellside T2"], sites = ["Staithe", "Hillside", "Ashbeck"];
        for (var number = 1; number <= 24; number++)
        {
            using var anyone = station.Client("none");
            var joined = await anyone.JoinAsync(new JoinRequest(new MachineReport
            {
                Identity = new MachineIdentity
                {
                    Serial = RunningStation.Serial(number),
                    Vendor = models[number % 3].Split(' ')[0],
                    Product = models[number % 3],
                },
                Disks = [new ReportedDisk("/dev/nvme0n1", 256L << 30, "", [])],
            }, null), CancellationToken.None);
            var site = sites[number % 3];
            if (number > 12)
            {
                await people.AssignAsync(joined.Machine, new Approval { Site = site }, CancellationToken.None);
                continue;
            }
            await people.ApproveAsync(joined.Machine, new Approval
            {
                Name = $"TVL-{site[..3].ToUpperInvariant()}-{number:000}",
                Site = site,
                Image = number % 3 == 1 ? "Reading room" : "Lending desk",
            }, CancellationToken.None);
            using var machine = station.Client(joined.Key);
            var task = (await machine.PollAsync(null, CancellationToken.None)).Task!;
            await machine.ReportAsync(new TaskReport(task.Id, 1, null, [], null), CancellationToken.None);
            TaskOutcome? outcome = number switch
            {
                <= 2 => new TaskOutcome { Done = false, Code = "io-error", Problem = "could not write '/dev/nvme0n1': input/output error" },
                <= 7 => new TaskOutcome
                {
                    Done = true,
                    Result = new MachineResult { Title = task.Title, Checks = [new CheckedExpectation("it is there", "stop", true, "")] },
                },
                _ => null,
            };
            await machine.ReportAsync(new TaskReport(task.Id, 2, new TaskProgress("writing files", number * 2_000_000_000L, 26_000_000_000,
                true, 118_000_000, 220 - 15 * number), [], outcome), CancellationToken.None);
        }
        using var playwright = await Playwright.CreateAsync();
        await using var browser = await Browser.OpenAsync(playwright);
        var page = await Browser.PageAsync(browser, station, 1280, 800);
        await Browser.SignInAsync(page, station.Token);
        await Assertions.Expect(page.Locator("tbody tr")).ToHaveCountAsync(24);
        if (Environment.GetEnvironmentVariable("VEMBAR_SCREENSHOTS") is { Length: > 0 } folder)
        {
            await page.GetByLabel("Search").FillAsync("ashbeck");
            await page.ScreenshotAsync(new PageScreenshotOptions { Path = Path.Combine(folder, "station.png") });
            await page.GetByLabel("Search").FillAsync("");
        }
        await page.GetByRole(AriaRole.Button, new PageGetByRoleOptions { Name = "failed 2" }).ClickAsync();
        await Assertions.Expect(page.Locator("tbody tr")).ToHaveCountAsync(2);
        await Assertions.Expect(page.Locator("tbody")).ToContainTextAsync("input/output error");
        await page.GetByRole(AriaRole.Button, new PageGetByRoleOptions { Name = "all 24" }).ClickAsync();
        await page.GetByLabel("Search").FillAsync("wharf");
        await Assertions.Expect(page.Locator("tbody tr")).ToHaveCountAsync(8);
        await page.GetByLabel("Site").SelectOptionAsync("Hillside");
        await page.GetByRole(AriaRole.Button, new PageGetByRoleOptions { Name = "waiting" }).ClickAsync();
        await Assertions.Expect(page.Locator("tbody tr")).ToHaveCountAsync(4);
        // Two at once, each with its name.
        var boxes = page.Locator("tbody input[type=checkbox]");
        await boxes.Nth(0).CheckAsync();
        await boxes.Nth(1).CheckAsync();
        await page.GetByRole(AriaRole.Button, new PageGetByRoleOptions { Name = "Approve 2 machines" }).ClickAsync();
        await page.GetByLabel("Image").SelectOptionAsync("desks#Reading room");
        await page.GetByPlaceholder("computer name").Nth(0).FillAsync("TVL-A");
        await page.GetByPlaceholder("computer name").Nth(1).FillAsync("TVL-B");
        await page.Locator("dialog").GetByRole(AriaRole.Button, new LocatorGetByRoleOptions { Name = "Approve" }).ClickAsync();
        await Assertions.Expect(page.GetByText("2 machines are approved")).ToBeVisibleAsync();
        Assert.Equal(2, (await people.MachinesAsync(CancellationToken.None)).Count(m => m.State == MachineState.Ready));
    }

    [Fact]
    public async Task AFailureIsSeenAndNamesAreTextAndNotMarkup()
    {
        using var station = new RunningStation(world);
        using var playwright = await Playwright.CreateAsync();
        await using var browser = await Browser.OpenAsync(playwright);
        var page = await Browser.PageAsync(browser, station, 400, 800);
        await Browser.SignInAsync(page, station.Token);
        await Assertions.Expect(page.GetByText("No machine has joined yet")).ToBeVisibleAsync();
        // Its disk is no disk any more when it is to be written.
        var machine = station.Join(2, Desk);
        station.WaitFor(2, MachineState.Waiting);
        station.Ok("station", "assign", RunningStation.Serial(2), "--site", "<img src=x onerror=alert(1)>");
        File.Delete(station.Disk(2));
        Directory.CreateDirectory(station.Disk(2));
        station.Ok("station", "approve", RunningStation.Serial(2), "--name", "TVL-2", "--image", "Lending desk", "--accept", "no-driver",
            "--accept", "no-storage-driver");
        await Assertions.Expect(page.Locator("tbody .state")).ToHaveTextAsync("failed");
        Assert.Equal(1, RunningStation.Finish(machine).Code);
        await Assertions.Expect(page.GetByText("<img src=x onerror=alert(1)>", new PageGetByTextOptions { Exact = true }).First)
            .ToBeVisibleAsync();
        await page.GetByRole(AriaRole.Link, new PageGetByRoleOptions { Name = "TVL-2" }).ClickAsync();
        await Assertions.Expect(page.Locator("#report .problem")).ToContainTextAsync("folder");
        // Nothing is wider than a telephone.
        Assert.True(await page.EvaluateAsync<bool>("document.documentElement.scrollWidth <= innerWidth"));
    }
}
