using System.CommandLine;
using Vembar.Common;
using Vembar.Common.Formats;

namespace Vembar.Cli.Commands.Places;

internal static class CacheCommand
{
    public static VembarCommand Create()
    {
        var clear = new Option<bool>("--clear") { Description = "Take everything out" };
        var limit = new Option<string?>("--limit") { Description = "Keep so much at most from now on", HelpName = "SIZE" };
        return new VembarCommand("cache", "Tell what is kept here of archives that are far away; VEMBAR_CACHE says where, or off",
            "vembar cache", "vembar cache --limit \"50 GiB\"", "vembar cache --clear")
            .With(clear, limit).Does((parse, session) =>
            {
                var folder = session.Cache.Folder
                    ?? throw new VembarException(ErrorKind.Usage, "no-cache", "nothing is kept: VEMBAR_CACHE is off",
                    "Unset it, or name a folder with it.");
                if (parse.GetValue(limit) is { } text)
                {
                    if (!ByteSize.TryParse(text, out var bytes))
                        throw new VembarException(ErrorKind.Usage, "bad-size", $"'{text}' is not a size",
                            "Write for instance --limit \"20 GiB\".");
                    session.Cache.SetLimit(bytes);
                }
                var cleared = parse.GetValue(clear) ? session.Cache.Blocks?.Clear() ?? 0 : (long?)null;
                var (held, blocks) = session.Cache.Blocks?.Measure() ?? (0, 0);
                var most = session.Cache.Limit;
                session.Result(new CacheJson(folder, held, blocks, most, cleared), json => json.CacheJson, () =>
                {
                    if (cleared is { } gone)
                        Session.Line($"{Text.Size(gone)} were taken out.");
                    Session.Line($"{folder} holds {Text.Count(blocks, "block")}, {Text.Size(held)} of {Text.Size(most)}.");
                });
                return ExitCode.Done;
            });
    }
}
