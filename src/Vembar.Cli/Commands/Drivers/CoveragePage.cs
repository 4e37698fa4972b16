using System.Globalization;
using System.Text;
using Vembar.Operations.Drivers;
using Vembar.Windows.Servicing.Drivers;

namespace Vembar.Cli.Commands.Drivers;

/// <summary>The coverage matrix as an HTML page without scripts or outside parts.</summary>
internal static class CoveragePage
{
    public static string Render(CoverageResult result, string from)
    {
        var page = new StringBuilder();
        var devices = result.Models.SelectMany(m => m.Devices).ToList();
        page.Append(Page.Begin($"Driver coverage: {string.Join(", ", result.Models.Select(m => m.Model))}", $"{from} · Windows for "
            + $"{result.Windows.Architecture} · {Text.Count(result.Drivers, "driver package")} compared · {Text.Time(DateTime.UtcNow)}"));
        var verdict = result.IsInOrder ? "Every device that is needed has a driver." : "Devices that are needed have no driver.";
        page.Append(Page.Verdict(result.IsInOrder, verdict, $"{Text.Count(devices.Count, "device")}: {CoverageRow.Summary(devices)}"));

        var matrix = new PageTable(page, ["Device", .. result.Models.Select(m => m.Model)]);
        foreach (var row in CoverageRow.Of(result))
        {
            page.Append(CultureInfo.InvariantCulture, $"<tr><th>{E(row.Device)}</th>");
            foreach (var cell in row.Cells)
            {
                if (cell is null)
                    page.Append("<td class=\"none\">–</td>");
                else
                {
                    var by = cell.Chosen is { } chosen ? $"{chosen.Driver.Provider}, by {chosen.Id}"
                        : cell.Device.HardwareIds.Concat(cell.Device.CompatibleIds).First();
                    page.Append(CultureInfo.InvariantCulture,
                        $"<td class=\"u{cell.Urgency}\">{E(CoverageRow.Cell(cell))}<small>{E(by)}</small></td>");
                }
            }
            page.Append("</tr>\n");
        }
        matrix.End();

        foreach (var model in result.Models.Where(m => m.Devices.Any(d => d.Others.Count > 0)))
        {
            page.Append($"<h2>{E(model.Model)}: drivers that lose</h2>\n");
            var losers = new PageTable(page, "Device", "Chosen", "Not chosen", "Because");
            foreach (var device in model.Devices)
            {
                foreach (var loser in device.Others)
                {
                    var won = device.WinnerOver(loser) is { } winner ? Driver(winner) : "–";
                    losers.Cells($"<td>{E(device.Device.Name)}</td>", $"<td>{won}</td>", $"<td>{Driver(loser)}</td>",
                        $"<td>{E(CoverageRow.Why(device, loser))}</td>");
                }
            }
            losers.End();
        }
        if (result.Passed.Count > 0)
        {
            page.Append("<h2>Packages that were passed over</h2>\n");
            var over = new PageTable(page, "Package", "Because");
            foreach (var passed in result.Passed)
                over.Cells($"<td><code>{E(passed.What)}</code></td>", $"<td>{E(passed.Why)}</td>");
            over.End();
        }
        return page.Append(Page.End).ToString();
    }

    private static string Driver(DriverMatch match) =>
        $"{E(match.Driver.Name)} {match.Driver.Version}<small>{E(match.Driver.From)}</small>";

    private static string E(string text) => Page.E(text);
}
