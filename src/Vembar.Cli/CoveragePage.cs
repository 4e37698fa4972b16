using System.Globalization;
using System.Net;
using System.Text;
using Vembar.Cli.Commands;
using Vembar.Core.Operations;
using Vembar.Core.Servicing.Drivers;

namespace Vembar.Cli;

/// <summary>The coverage matrix as an HTML page without scripts or outside parts.</summary>
internal static class CoveragePage
{
    private const string Style =
        """
        body{font:15px/1.5 system-ui,"DejaVu Sans",sans-serif;margin:2rem auto;max-width:76rem;padding:0 1.5rem;color:#1d2327;background:#fff}
        h1{font-size:1.5rem;margin:0 0 .2rem}h2{font-size:1.1rem;margin:2rem 0 .5rem}p{margin:.2rem 0}
        .from{color:#5b6670}.verdict{margin:1rem 0;padding:.7rem 1rem;border-left:.4rem solid;background:#f5f7f8}
        .bad{border-color:#a3261d}.good{border-color:#2d7048}
        table{border-collapse:collapse;width:100%;margin:.6rem 0}th,td{text-align:left;vertical-align:top;padding:.45rem .7rem;border-bottom:1px solid #d9dfe3}
        thead th{border-bottom:2px solid #7b8790;white-space:nowrap}tbody th{font-weight:600}
        td small{display:block;color:#5b6670;overflow-wrap:anywhere}
        .u0,.u1{background:#fbe9e7;color:#7d1d16;font-weight:600}.u1{background:#fdf3e1;color:#7a4b00}.u2{color:#5b6670}.none{color:#a9b2b9}
        code{font:13px/1.4 "DejaVu Sans Mono",monospace;overflow-wrap:anywhere}
        @media print{body{margin:0;max-width:none;font-size:11px}.u0,.u1,.verdict{-webkit-print-color-adjust:exact;print-color-adjust:exact}tr{break-inside:avoid}}
        """;

    public static string Render(CoverageResult result, string from)
    {
        var page = new StringBuilder();
        var devices = result.Models.SelectMany(m => m.Devices).ToList();
        page.Append(CultureInfo.InvariantCulture, $"<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><meta name=\"viewport\" content=\"width=device-width\"><title>Driver coverage</title><style>\n{Style}\n</style></head><body>\n");
        page.Append(CultureInfo.InvariantCulture, $"<h1>Driver coverage: {E(string.Join(", ", result.Models.Select(m => m.Model)))}</h1>\n<p class=\"from\">{E(from)} · Windows for {E(result.Windows.Architecture)} · {Text.Count(result.Drivers, "driver package")} compared · {E(Text.Time(DateTime.UtcNow))}</p>\n");
        page.Append(CultureInfo.InvariantCulture, $"<div class=\"verdict {(result.IsInOrder ? "good" : "bad")}\"><p><strong>{(result.IsInOrder ? "Every device that is needed has a driver." : "Devices that are needed have no driver.")}</strong></p>");
        page.Append(CultureInfo.InvariantCulture, $"<p>{Text.Count(devices.Count, "device")}: {E(CoverageRow.Summary(devices))}</p></div>\n");

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
                    page.Append(CultureInfo.InvariantCulture, $"<td class=\"u{cell.Urgency}\">{E(CoverageRow.Cell(cell))}<small>{E(cell.Chosen is { } chosen ? $"{chosen.Driver.Provider}, by {chosen.Id}" : cell.Device.HardwareIds.Concat(cell.Device.CompatibleIds).First())}</small></td>");
            }
            page.Append("</tr>\n");
        }
        page.Append("</tbody></table>\n");

        foreach (var model in result.Models.Where(m => m.Devices.Any(d => d.Others.Count > 0)))
        {
            page.Append(CultureInfo.InvariantCulture, $"<h2>{E(model.Model)}: drivers that lose</h2>\n<table><thead><tr><th>Device</th><th>Chosen</th><th>Not chosen</th><th>Because</th></tr></thead><tbody>\n");
            foreach (var device in model.Devices)
            {
                foreach (var loser in device.Others)
                    page.Append(CultureInfo.InvariantCulture, $"<tr><td>{E(device.Device.Name)}</td><td>{Driver(device.Chosen!)}</td><td>{Driver(loser)}</td><td>{E(loser.LosesTo(device.Chosen!))}</td></tr>\n");
            }
            page.Append("</tbody></table>\n");
        }
        if (result.Passed.Count > 0)
        {
            page.Append("<h2>Packages that were passed over</h2>\n<table><thead><tr><th>Package</th><th>Because</th></tr></thead><tbody>\n");
            foreach (var passed in result.Passed)
                page.Append(CultureInfo.InvariantCulture, $"<tr><td><code>{E(passed.What)}</code></td><td>{E(passed.Why)}</td></tr>\n");
            page.Append("</tbody></table>\n");
        }
        return page.Append("</body></html>\n").ToString();
    }

    private static string Driver(DriverMatch match) => $"{E(match.Driver.Name)} {match.Driver.Version}<small>{E(match.Driver.From)}</small>";

    private static string E(string text) => WebUtility.HtmlEncode(text);
}
