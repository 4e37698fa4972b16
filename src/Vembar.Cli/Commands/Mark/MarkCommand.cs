using System.CommandLine;
using System.Globalization;
using Vembar.Common;
using Vembar.Operations;
using Vembar.Operations.Mark;

namespace Vembar.Cli.Commands.Mark;

internal static class MarkCommand
{
    public static VembarCommand Create()
    {
        var image = SharedOptions.Image();
        var channels = new Option<string[]>("--channel")
        {
            Description = "Let a channel (pilot, production) point at this version, and no other of its name; may be given several times",
            HelpName = "NAME",
            DefaultValueFactory = _ => [],
        };
        var channelsOut = new Option<string[]>("--channel-out")
        {
            Description = "Take a channel off this version, so that it points at none; may be given several times",
            HelpName = "NAME",
            DefaultValueFactory = _ => [],
        };
        var locks = new Option<bool>("--lock") { Description = "Neither drop nor replace it until it is unlocked" };
        var unlocks = new Option<bool>("--unlock") { Description = "Let it be dropped and replaced again" };
        var holds = new Option<bool>("--hold") { Description = "Hold it back: whoever asks for the newest version gets the one before" };
        var releases = new Option<bool>("--release") { Description = "Do not hold it back any more" };
        var retire = new Option<string?>("--retire")
        {
            Description = "Retire it from that day on: it is not given to those who ask for the newest version, and listed with --all only",
            HelpName = "DATE|never",
        };
        var wait = SharedOptions.Wait();
        return new VembarCommand("mark", "Say what an image is for: its channels, whether it is locked, held back, or retired",
            "vembar mark desks.vmb#\"Reading room@2026.10\" --channel pilot",
            "vembar mark desks.vmb#\"Reading room@pilot\" --channel production --lock",
            "vembar mark desks.vmb#\"Reading room@2026.08\" --retire 2026-12-31", "vembar mark desks.vmb#3 --hold")
            .With(image, channels, channelsOut, locks, unlocks, holds, releases, retire, wait).Does(async (parse, session) =>
            {
                var day = parse.GetValue(retire);
                var result = await session.Do(new MarkHandler(session.Host), new MarkRequest
                {
                    Image = SharedOptions.ImageOf(parse, image, session),
                    Channels = parse.GetRequiredValue(channels),
                    KnownChannels = session.Default("channels", session.Project?.Channels) ?? [],
                    ChannelsOut = parse.GetRequiredValue(channelsOut),
                    Locked = OneOf(parse, locks, unlocks),
                    Held = OneOf(parse, holds, releases),
                    NeverRetires = IsNever(day),
                    Retires = day is null || IsNever(day) ? null : DayOf(day),
                    Wait = TimeSpan.FromSeconds(parse.GetValue(wait)),
                });
                session.Warn(result.Warnings);
                session.Result(new MarkJson(result.Archive, result.Image, result.Changes, result.Warnings), json => json.MarkJson,
                    () => Session.Line(result.Changes.Count == 0
                        ? $"Image {result.Image.Number} {result.Image.Title} of {result.Archive} is marked so already."
                        : $"Image {result.Image.Number} {result.Image.Title} of {result.Archive}: {string.Join("; ", result.Changes)}."));
                return ExitCode.Done;
            });
    }

    private static bool? OneOf(ParseResult parse, Option<bool> on, Option<bool> off)
    {
        var (isOn, isOff) = (parse.GetValue(on), parse.GetValue(off));
        if (isOn && isOff)
            throw new VembarException(ErrorKind.Usage, "contradiction", $"{on.Name} and {off.Name} exclude each other", "Choose one.");
        return isOn ? true : isOff ? false : null;
    }

    private static bool IsNever(string? day) => string.Equals(day, "never", StringComparison.OrdinalIgnoreCase);

    private static DateOnly DayOf(string text) =>
        DateOnly.TryParseExact(text, "yyyy-MM-dd", CultureInfo.InvariantCulture, DateTimeStyles.None, out var day) ? day
        : throw new VembarException(ErrorKind.Usage, "bad-date", $"'{text}' is not a day",
        "Write for instance --retire 2026-12-31, or never.");
}
