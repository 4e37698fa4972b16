using System.CommandLine;
using System.Globalization;
using Vembar.Common;
using Vembar.Operations.Stations.Contract;

namespace Vembar.Cli.Commands.Station;

internal static class StationTokenCommand
{
    public static VembarCommand Create()
    {
        var command = new VembarCommand("token", "Who may do what at the station: people and scripts have tokens",
            "vembar station token list", "vembar station token add \"front desk\" --role technician --until 2027-06-30",
            "vembar station token revoke \"front desk\"");
        command.Subcommands.Add(Add());
        command.Subcommands.Add(new VembarCommand("list", "The tokens that were given out", "vembar station token list")
            .With(StationCommand.Option).Does(async (parse, session) =>
            {
                using var client = StationCommand.Client(parse, session);
                List(await client.TokensAsync(session.Cancellation).ConfigureAwait(false), session);
                return ExitCode.Done;
            }));
        var name = Name();
        command.Subcommands.Add(new VembarCommand("revoke", "Take a token back: it is good for nothing from then on",
            "vembar station token revoke \"front desk\"").With(name, StationCommand.Option).Does(async (parse, session) =>
            {
                using var client = StationCommand.Client(parse, session);
                List(await client.RevokeTokenAsync(parse.GetRequiredValue(name), session.Cancellation).ConfigureAwait(false), session);
                return ExitCode.Done;
            }));
        return command;
    }

    private static Argument<string> Name() => new("NAME") { Description = "Whose it is, or what for" };

    private static VembarCommand Add()
    {
        var name = Name();
        var role = new Option<string>("--role")
        {
            Description = "What it is good for: looking, approving machines, or everything",
            HelpName = "viewer|technician|administrator",
            Required = true,
        }.AcceptOnlyFromAmong("viewer", "technician", "administrator");
        var until = new Option<string?>("--until") { Description = "The last day that it is good for", HelpName = "DATE" };
        var pin = new Option<bool>("--pin") { Description = "Make a PIN too, with which one signs in at the console of a machine" };
        return new VembarCommand("add", "Make a token; it is shown this once", "vembar station token add \"front desk\" --role technician",
            "vembar station token add pipeline --role administrator --until 2027-12-31").With(name, role, until, pin, StationCommand.Option)
            .Does(async (parse, session) =>
            {
                using var client = StationCommand.Client(parse, session);
                var made = await client.AddTokenAsync(new TokenOrder(parse.GetRequiredValue(name),
                    Enum.Parse<Role>(parse.GetRequiredValue(role), ignoreCase: true), UntilOf(parse.GetValue(until)), parse.GetValue(pin)),
                    session.Cancellation).ConfigureAwait(false);
                // It is kept nowhere, so it comes also when nothing else is to be told.
                session.TextResult(made, json => json.NewToken, null, $"The token of {made.Token.Name} "
                    + $"({made.Token.Role.ToString().ToLowerInvariant()}), told this once:\n  {made.Secret}\n"
                    + (made.Pin is { } digits ? $"Its PIN at the consoles of machines: {digits}\n" : ""), _ => { });
                return ExitCode.Done;
            });
    }

    // The whole day counts, where this program runs.
    private static DateTime? UntilOf(string? text) => text is null ? null
        : DateOnly.TryParseExact(text, "yyyy-MM-dd", CultureInfo.InvariantCulture, DateTimeStyles.None, out var day)
        ? day.AddDays(1).ToDateTime(TimeOnly.MinValue, DateTimeKind.Local).ToUniversalTime()
        : throw new VembarException(ErrorKind.Usage, "bad-date", $"'{text}' is not a date", "Write --until 2027-06-30.");

    private static void List(IReadOnlyList<TokenInfo> tokens, Session session) =>
        session.Result(tokens, json => json.IReadOnlyListTokenInfo, () =>
        {
            var table = new Table("Name", "Role", "~Made", "~By", "Until", "~Last used", "~PIN");
            foreach (var token in tokens)
                table.Row(token.Name, token.Role.ToString().ToLowerInvariant(), Text.Time(token.Created), token.By,
                    token.Until is { } until ? Text.Time(until) : "", token.Used is { } used ? Text.Time(used) : "never",
                    token.HasPin ? "yes" : "");
            table.Print(session);
        });
}
