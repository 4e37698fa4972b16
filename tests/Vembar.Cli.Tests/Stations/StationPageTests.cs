using Microsoft.Playwright;
using Vembar.Operations.Stations.Contract;
using Xunit;

namespace Vembar.Cli.Tests.Stations;

/// <summary>The station's page, in Debian's Chromium without a screen.</summary>
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
        await Assertions.Expect(page.Locator("tbody .state")).ToHaveTextAsync("done", new LocatorAssertionsToHaveTextOptions
        {
            Timeout = 60_000,
        });
        Assert.Equal(0, RunningStation.Finish(machine).Code);
        await page.GetByRole(AriaRole.Link, new PageGetByRoleOptions { Name = "TVL-DESK-001" }).ClickAsync();
        await Assertions.Expect(page.Locator("#report")).ToContainTextAsync("Shelfmark");
        Assert.Empty(mistakes);
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
        await Assertions.Expect(page.Locator("tbody .state")).ToHaveTextAsync("failed", new LocatorAssertionsToHaveTextOptions
        {
            Timeout = 60_000,
        });
        Assert.Equal(1, RunningStation.Finish(machine).Code);
        await Assertions.Expect(page.GetByText("<img src=x onerror=alert(1)>", new PageGetByTextOptions { Exact = true }).First)
            .ToBeVisibleAsync();
        await page.GetByRole(AriaRole.Link, new PageGetByRoleOptions { Name = "TVL-2" }).ClickAsync();
        await Assertions.Expect(page.Locator("#report .problem")).ToContainTextAsync("folder");
        // Nothing is wider than a telephone.
        Assert.True(await page.EvaluateAsync<bool>("document.documentElement.scrollWidth <= innerWidth"));
    }
}
