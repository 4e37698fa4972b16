using Microsoft.Playwright;

namespace Vembar.Cli.Tests.Stations;

/// <summary>Debian's Chromium, without a screen, at a station's page.</summary>
internal static class Browser
{
    private static readonly string[] s_programs =
        ["/usr/bin/chromium", "/usr/bin/chromium-browser", "/snap/bin/chromium", "/usr/bin/google-chrome"];

    /// <summary>Opens a browser of nobody's.</summary>
    public static async Task<IBrowser> OpenAsync(IPlaywright playwright)
    {
        // However busy the machine is.
        const int Patience = 90_000;
        Assertions.SetDefaultExpectTimeout(Patience);
        return await playwright.Chromium.LaunchAsync(new BrowserTypeLaunchOptions
        {
            ExecutablePath = s_programs.FirstOrDefault(File.Exists) ?? s_programs[0],
            Timeout = Patience,
            Args = ["--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
                "--disable-component-update", "--disable-sync"],
        });
    }

    public static async Task<IPage> PageAsync(IBrowser browser, RunningStation station, int width, int height)
    {
        var context = await browser.NewContextAsync(new BrowserNewContextOptions
        {
            IgnoreHTTPSErrors = true,
            ViewportSize = new ViewportSize { Width = width, Height = height },
        });
        context.SetDefaultTimeout(90_000);
        var page = await context.NewPageAsync();
        await page.GotoAsync(station.Address);
        return page;
    }

    public static async Task SignInAsync(IPage page, string token)
    {
        await page.GetByLabel("Token").FillAsync(token);
        await page.GetByRole(AriaRole.Button, new PageGetByRoleOptions { Name = "Sign in" }).ClickAsync();
        await page.GetByRole(AriaRole.Heading, new PageGetByRoleOptions { Name = "Machines" }).WaitForAsync();
    }
}
