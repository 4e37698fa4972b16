using System.Net;

namespace Vembar.Cli;

/// <summary>What all HTML pages have: a look of their own, without scripts or outside parts, that prints well.</summary>
internal static class Page
{
    private const string Style =
        """
        body{font:15px/1.5 system-ui,"DejaVu Sans",sans-serif;margin:2rem auto;
        max-width:76rem;padding:0 1.5rem;color:#1d2327;background:#fff}
        h1{font-size:1.5rem;margin:0 0 .2rem}h2{font-size:1.1rem;margin:2rem 0 .5rem}p{margin:.2rem 0}
        .from{color:#5b6670}.verdict{margin:1rem 0;padding:.7rem 1rem;border-left:.4rem solid;background:#f5f7f8}
        .bad{border-color:#a3261d}.good{border-color:#2d7048}
        table{border-collapse:collapse;width:100%;margin:.6rem 0}
        th,td{text-align:left;vertical-align:top;padding:.45rem .7rem;border-bottom:1px solid #d9dfe3}
        thead th{border-bottom:2px solid #7b8790;white-space:nowrap}tbody th{font-weight:600}.n{text-align:right;white-space:nowrap}
        td small{display:block;color:#5b6670;overflow-wrap:anywhere}
        .u0,.u1,.refused{background:#fbe9e7;color:#7d1d16;font-weight:600}.u1{background:#fdf3e1;color:#7a4b00}
        .u2,.skipped,.already{color:#5b6670}.none{color:#a9b2b9}.done{color:#2d7048;font-weight:600}
        code{font:13px/1.4 "DejaVu Sans Mono",monospace;overflow-wrap:anywhere}
        @media print{body{margin:0;max-width:none;font-size:11px}tr{break-inside:avoid}
        .u0,.u1,.refused,.verdict{-webkit-print-color-adjust:exact;print-color-adjust:exact}}
        """;

    public static string Begin(string title, string from) =>
        $"<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\">{Mark}<meta name=\"viewport\" "
        + $"content=\"width=device-width\"><title>{E(title)}</title><style>\n{Style}\n</style></head><body>\n<h1>{E(title)}</h1>\n<p "
        + $"class=\"from\">{E(from)}</p>\n";

    /// <summary>What tells our pages from others.</summary>
    public const string Mark = "<meta name=\"generator\" content=\"vembar\">";

    public const string End = "</body></html>\n";

    public static string E(string text) => WebUtility.HtmlEncode(text);
}
