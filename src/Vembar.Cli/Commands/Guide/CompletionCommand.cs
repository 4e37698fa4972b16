using System.CommandLine;
using Vembar.Cli.Completion;

namespace Vembar.Cli.Commands.Guide;

internal static class CompletionCommand
{
    public static VembarCommand Create()
    {
        var shell = Shell();
        var command = new VembarCommand("completion", "Print the script that completes commands, options and their values in a shell",
            "source <(vembar completion bash)", "vembar completion fish > ~/.config/fish/completions/vembar.fish")
            .With(shell).Does((parse, _) =>
            {
                Console.Out.Write(parse.GetRequiredValue(shell) switch { "bash" => Bash, "zsh" => Zsh, _ => Fish });
                return ExitCode.Done;
            });
        command.Subcommands.Add(Answering());
        return command;
    }

    private static Argument<string> Shell() =>
        new Argument<string>("SHELL") { Description = "bash, zsh or fish" }.AcceptOnlyFromAmong("bash", "zsh", "fish");

    // What the scripts ask, each time somebody wants to have a word completed.
    private static VembarCommand Answering()
    {
        var shell = Shell();
        var line = new Argument<string>("LINE") { Description = "The command line up to the cursor" };
        var command = new VembarCommand("answer", "Say what the word at the end of a command line may become, one a line, with a tab and "
            + "what it is behind it")
        { Hidden = true }.With(shell, line);
        command.SetAction(parse =>
        {
            var typed = ShellLine.Read(parse.GetRequiredValue(line));
            foreach (var (value, text) in new Completer((RootCommand)parse.RootCommandResult.Command).Of(typed))
                Console.Out.Write($"{(parse.GetValue(shell) == "bash" ? typed.ForBash(value) : value)}\t{Text.Safe(text)}\n");
            return ExitCode.Done;
        });
        return command;
    }

    // Where there are several, each is listed with what it is; what they have in common can be inserted all the same.
    private const string Bash =
        """
        _vembar() {
            local line value text width=0
            local -a values texts
            while IFS=$'\t' read -r value text; do
                values+=("$value")
                texts+=("$text")
                (( ${#value} > width )) && width=${#value}
            done < <("${COMP_WORDS[0]}" completion answer bash "${COMP_LINE:0:COMP_POINT}" 2>/dev/null)
            compopt -o nosort 2>/dev/null
            COMPREPLY=("${values[@]}")
            if (( ${#values[@]} == 1 )); then
                [[ ${values[0]} == *[/#=@,] ]] && compopt -o nospace 2>/dev/null
            elif (( COMP_TYPE == 63 )); then
                local at room=$(( ${COLUMNS:-80} - width - 4 ))
                for at in "${!values[@]}"; do
                    [[ -n ${texts[at]} ]] && (( room > 10 )) \
                        && printf -v 'COMPREPLY[at]' "%-${width}s  %s" "${values[at]}" "${texts[at]:0:room}"
                done
            fi
        }
        complete -F _vembar vembar

        """;

    private const string Zsh =
        """
        #compdef vembar
        _vembar() {
            local line value text
            local -a values shown open opened
            while IFS=$'\t' read -r value text; do
                if [[ $value == *[/\#=@,] ]]; then
                    open+=("$value"); opened+=("$value${text:+  -- $text}")
                else
                    values+=("$value"); shown+=("$value${text:+  -- $text}")
                fi
            done < <(vembar completion answer zsh "${(j: :)words[1,CURRENT-1]} $QIPREFIX$PREFIX" 2>/dev/null)
            compadd -V vembar -l -d shown -a values
            compadd -V vembar -S '' -l -d opened -a open
        }
        compdef _vembar vembar

        """;

    private const string Fish =
        """
        complete -c vembar -f -k -a '(vembar completion answer fish (commandline -cp) 2>/dev/null)'

        """;
}
