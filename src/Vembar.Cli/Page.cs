using System.Net;

namespace Vembar.Cli;

/// <summary>What all HTML pages have: a look of their own, without parts from elsewhere, that prints well, in light and in dark.</summary>
internal static class Page
{
    private const string Style =
        """
        :root{color-scheme:light dark;--ink:#1d2327;--soft:#5b6670;--faint:#a9b2b9;--line:#d9dfe3;--rule:#7b8790;--paper:#fff;
        --band:#f5f7f8;--good:#2d7048;--bad:#a3261d;--warn:#7a4b00;--bad-band:#fbe9e7;--warn-band:#fdf3e1;
        --c1:#2f6f9f;--c2:#c9871f;--c3:#4c9a6b;--c4:#8a5aa8;--c5:#b5493f;--c6:#5b8f97}
        @media(prefers-color-scheme:dark){:root{--ink:#e3e7ea;--soft:#9aa5ae;--faint:#66717a;--line:#39424a;--rule:#66717a;--paper:#161a1d;
        --band:#20262b;--good:#6fbf8f;--bad:#f08a80;--warn:#e5b566;--bad-band:#3b2220;--warn-band:#362b18;
        --c1:#5c9fce;--c2:#d9a24a;--c3:#68b487;--c4:#a884c4;--c5:#d0766d;--c6:#7fb0b8}}
        @media print{:root{color-scheme:light;--ink:#000;--soft:#444;--faint:#888;--line:#ccc;--rule:#666;--paper:#fff;--band:#f5f7f8;
        --good:#2d7048;--bad:#a3261d;--warn:#7a4b00;--bad-band:#fbe9e7;--warn-band:#fdf3e1;
        --c1:#2f6f9f;--c2:#c9871f;--c3:#4c9a6b;--c4:#8a5aa8;--c5:#b5493f;--c6:#5b8f97}}
        body{font:15px/1.5 system-ui,"DejaVu Sans",sans-serif;margin:2rem auto;max-width:76rem;padding:0 1.5rem;color:var(--ink);
        background:var(--paper)}
        h1{font-size:1.5rem;margin:0 0 .2rem}h2{font-size:1.1rem;margin:2rem 0 .5rem}p{margin:.2rem 0}
        .from,.soft,.wide-only{color:var(--soft)}.verdict{margin:1rem 0;padding:.7rem 1rem;border-left:.4rem solid;background:var(--band)}
        .verdict p{color:var(--ink)}.verdict.bad{border-color:var(--bad)}.verdict.good{border-color:var(--good)}
        .scroll{overflow-x:auto}.tight thead th{white-space:normal}table{border-collapse:collapse;width:100%;margin:.6rem 0}
        th,td{text-align:left;vertical-align:top;padding:.45rem .7rem;border-bottom:1px solid var(--line)}
        thead th{border-bottom:2px solid var(--rule);white-space:nowrap}tbody th{font-weight:600}
        th.n,td.n{text-align:right;white-space:nowrap}td small{display:block;color:var(--soft);overflow-wrap:anywhere}
        .u0,.refused,.failed,.stopped,.gone,.stop{color:var(--bad);font-weight:600}.u1,.running,.warn{color:var(--warn);font-weight:600}
        td.u0,td.refused,td.stop{background:var(--bad-band)}td.u1,td.warn{background:var(--warn-band)}
        .u2,.skipped,.already,.reused,.waiting,.note{color:var(--soft)}.none{color:var(--faint)}
        .done,.ready,.more{color:var(--good);font-weight:600}
        code{font:13px/1.4 "DejaVu Sans Mono",monospace;overflow-wrap:anywhere}ul{margin:.2rem 0;padding-left:1.2rem}
        .facts{display:flex;flex-wrap:wrap;gap:.6rem 2.4rem;margin:1rem 0;padding:.7rem 1rem;background:var(--band)}
        .facts dt{color:var(--soft);font-size:13px}.facts dd{margin:0;font-size:1.25rem;font-weight:600}
        .mark{background:var(--c2);color:var(--paper);border-radius:3px;padding:0 .35rem;font-size:12px}
        figure{margin:.6rem 0}.live{display:none;width:100%}.scripts .live{display:block}.scripts .still{display:none}
        svg{width:100%;height:auto}.live svg{width:auto}.lineage li{margin:.2rem 0}details{margin:.4rem 0}
        summary{color:var(--soft);cursor:pointer}
        @media print{body{margin:0;max-width:none;font-size:11px}tr,figure{break-inside:avoid}h2{break-after:avoid}
        *{-webkit-print-color-adjust:exact;print-color-adjust:exact}.scripts .live{display:none}.scripts .still{display:block}}
        """;

    /// <summary>What a page without scripts may do: its own styles; nothing from elsewhere.</summary>
    private const string PlainPolicy = "default-src 'none'; style-src 'unsafe-inline'";

    /// <summary>How a page begins.</summary>
    /// <param name="title">Its title.</param>
    /// <param name="from">What it is about, and of when.</param>
    /// <param name="policy">What it may do, as a content security policy; null for a page without scripts.</param>
    public static string Begin(string title, string from, string? policy = null) =>
        $"<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\">{Mark}<meta http-equiv=\"Content-Security-Policy\" "
        + $"content=\"{E(policy ?? PlainPolicy)}\"><meta name=\"viewport\" "
        + $"content=\"width=device-width\"><title>{E(title)}</title><style>\n{Style}\n</style></head><body>\n<h1>{E(title)}</h1>\n<p "
        + $"class=\"from\">{E(from)}</p>\n";

    /// <summary>How it stands, in a sentence or two.</summary>
    /// <param name="good">Whether all is well.</param>
    /// <param name="text">In a sentence.</param>
    /// <param name="more">What else; may be empty.</param>
    public static string Verdict(bool good, string text, string more = "") =>
        $"<div class=\"verdict {(good ? "good" : "bad")}\"><p><strong>{E(text)}</strong></p>"
        + $"{(more.Length > 0 ? $"<p>{E(more)}</p>" : "")}</div>\n";

    /// <summary>What tells our pages from others.</summary>
    public const string Mark = "<meta name=\"generator\" content=\"vembar\">";

    public const string End = "</body></html>\n";

    public static string E(string text) => WebUtility.HtmlEncode(text);
}
