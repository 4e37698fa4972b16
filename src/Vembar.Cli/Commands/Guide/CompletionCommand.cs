using System.CommandLine;

namespace Vembar.Cli.Commands.Guide;

internal static class CompletionCommand
{
    public static VembarCommand Create()
    {
        var shell = new Argument<string>("SHELL") { Description = "bash, zsh or fish" }.AcceptOnlyFromAmong("bash", "zsh", "fish");
        return new VembarCommand("completion", "Print the script that completes commands and options in a shell",
            "source <(vembar completion bash)", "vembar completion fish > ~/.config/fish/completions/vembar.fish")
            .With(shell).Does((parse, _) =>
            {
                Console.Out.Write(parse.GetRequiredValue(shell) switch { "bash" => Bash, "zsh" => Zsh, _ => Fish });
                return ExitCode.Done;
            });
    }

    private const string Bash =
        """
        _vembar() {
            local IFS=$'\n'
            COMPREPLY=($(compgen -W "$(vembar "[suggest:${COMP_POINT}]" "${COMP_LINE}" 2>/dev/null)" -- "${COMP_WORDS[COMP_CWORD]}"))
        }
        complete -o default -F _vembar vembar

        """;

    private const string Zsh =
        """
        #compdef vembar
        _vembar() {
            local -a words_found
            words_found=("${(@f)$(vembar "[suggest:${CURSOR}]" "${BUFFER}" 2>/dev/null)}")
            compadd -- $words_found || _files
        }
        compdef _vembar vembar

        """;

    private const string Fish =
        """
        complete -c vembar -a '(vembar "[suggest:"(string length -- (commandline -cp))"]" (commandline -cp) 2>/dev/null)'

        """;
}
