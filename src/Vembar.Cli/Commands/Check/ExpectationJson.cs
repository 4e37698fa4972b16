using Vembar.Images.Records;

namespace Vembar.Cli.Commands.Check;

internal sealed record ExpectationJson(string Check, Severity Severity, string Text, bool Met, string Found, string Mend);
