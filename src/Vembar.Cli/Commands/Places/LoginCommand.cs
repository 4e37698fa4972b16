using System.CommandLine;
using Vembar.Common;
using Vembar.Operations.Access;
using Vembar.Store.Places.Remote;

namespace Vembar.Cli.Commands.Places;

internal static class LoginCommand
{
    public static VembarCommand Create()
    {
        var place = new Argument<string>("PLACE") { Description = "A host, https://HOST/… or oci://HOST/…" };
        var user = new Option<string?>("--user") { Description = "Who you are there; asked for without it", HelpName = "NAME" };
        var token = new Option<bool>("--token")
        {
            Description = "What is asked for, or comes by standard input, is a token and not a password",
        };
        return new VembarCommand("login", "Keep who you are at a place, in a file that nobody else may read; the password is asked for, "
            + "or comes by standard input", "vembar login oci://registry.tarnvalley.example/desks --user publisher",
            "vembar login https://images.tarnvalley.example --token < token.txt")
            .With(place, user, token).Does((parse, session) =>
            {
                var host = PlaceLogins.HostOf(parse.GetRequiredValue(place));
                var isToken = parse.GetValue(token);
                var name = parse.GetValue(user);
                if (isToken && name is not null)
                    throw new VembarException(ErrorKind.Usage, "user-or-token", "--user and --token exclude each other", "Choose one.");
                if (!isToken && name is null)
                    name = SecretPrompt.Ask($"User at {host}: ", "--user NAME");
                var secret = SecretPrompt.AskSecret(isToken ? $"Token for {host}: " : $"Password of {name} at {host}: ");
                session.Logins.Keep(host, new PlaceCredentials(name ?? "", secret, isToken));
                session.Result(new LoginJson(host, name, session.Logins.FilePath), json => json.LoginJson, () =>
                {
                    Session.Line($"Who you are at {host} is kept in {session.Logins.FilePath}; `vembar logout {host}` forgets it.");
                });
                return ExitCode.Done;
            });
    }
}
