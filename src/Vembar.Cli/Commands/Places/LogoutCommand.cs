using System.CommandLine;
using Vembar.Operations.Access;

namespace Vembar.Cli.Commands.Places;

internal static class LogoutCommand
{
    public static VembarCommand Create()
    {
        var place = new Argument<string>("PLACE") { Description = "A host, https://HOST/… or oci://HOST/…" };
        return new VembarCommand("logout", "Forget who you are at a place", "vembar logout registry.tarnvalley.example")
            .With(place).Does((parse, session) =>
            {
                var host = PlaceLogins.HostOf(parse.GetRequiredValue(place));
                var was = session.Logins.Keep(host, null);
                session.Result(new LoginJson(host, null, session.Logins.FilePath), json => json.LoginJson,
                    () => Session.Line(was ? $"Who you are at {host} is forgotten." : $"Nothing was kept for {host}."));
                return ExitCode.Done;
            });
    }
}
