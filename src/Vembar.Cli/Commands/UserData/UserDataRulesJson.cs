namespace Vembar.Cli.Commands.UserData;

internal sealed record UserDataRulesJson(string Text);
