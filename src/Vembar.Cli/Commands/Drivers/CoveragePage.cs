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
        var (mark, verdict) = result.IsInOrder ? ("good", "Every device that is needed has a driver.")
            : ("bad", "Devices that are needed have no driver.");
        page.Append(CultureInfo.InvariantCulture, $"<div class=\"verdict {mark}\"><p><strong>{verdict}</strong></p>");
        page.Append(CultureInfo.InvariantCulture,
            $"<p>{Text.Count(devices.Count, "device")}: {E(CoverageRow.Summary(devices))}</p></div>\n");

        page.Append("<table><thead><tr><th>Device</th>");
        foreach (var model in result.Models)
            page.Append(CultureInfo.InvariantCulture, $"<th>{E(model.Model)}</th>");
        page.Append("</tr></thead><tbody>\n");
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
        page.Append("</tbody></table>\n");

        foreach (var model in result.Models.Where(m => m.Devices.Any(d => d.Others.Count > 0)))
        {
            page.Append(CultureInfo.InvariantCulture,
                $"<h2>{E(model.Model)}: drivers that lose</h2>\n<table><thead><tr><th>Device</th><th>Chosen</th><th>Not "
                + $"chosen</th><th>Because</th></tr></thead><tbody>\n");
            foreach (var device in model.Devices)
            {
                foreach (var loser in device.Others)
                {
                    var won = device.WinnerOver(loser) is { } winner ? Driver(winner) : "–";
                    page.Append(CultureInfo.InvariantCulture,
                        $"<tr><td>{E(device.Device.Name)}</td><td>{won}</td><td>{Driver(loser)}</td>"
                        + $"<td>{E(CoverageRow.Why(device, loser))}</td></tr>\n");
                }
            }
            page.Append("</tbody></table>\n");
        }
        if (result.Passed.Count > 0)
        {
            page.Append("<h2>Packages that were passed over</h2>\n"
                + "<table><thead><tr><th>Package</th><th>Because</th></tr></thead><tbody>\n");
            foreach (var passed in result.Passed)
                page.Append(CultureInfo.InvariantCulture, $"<tr><td><code>{E(passed.What)}</code></td><td>{E(passed.Why)}</td></tr>\n");
            page.Append("</tbody></table>\n");
        }
        return page.Append(Page.End).ToString();
    }

    private static string Driver(DriverMatch match) =>
        $"{E(match.Driver.Name)} {match.Driver.Version}<small>{E(match.Driver.From)}</small>";

    private static string E(string text) => Page.E(text);
}
