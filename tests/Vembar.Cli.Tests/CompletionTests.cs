using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests;

/// <summary>What words may become, asked as the shells' scripts ask, and by a shell itself.</summary>
public sealed class CompletionTests(World world, MistakeFolder folder) : IClassFixture<MistakeFolder>
{
    private string[] Answer(string line, string shell = "fish")
    {
        folder.Fill(world);
        var ran = Vembar.Finish(Vembar.Start(["completion", "answer", shell, line], start => start.WorkingDirectory = folder.Path));
        Assert.Equal((0, ""), (ran.Code, ran.Error));
        return ran.Output.Split('\n', StringSplitOptions.RemoveEmptyEntries);
    }

    private string[] Values(string line, string shell = "fish") => [.. Answer(line, shell).Select(l => l.Split('\t')[0])];

    [Theory]
    [InlineData("vembar wor", "workspace")]
    [InlineData("vembar workspace o", "open")]
    [InlineData("vembar help ord", "order", "orders")]
    [InlineData("vembar list d", "disks/", "drivers/", "desks.vmb")]
    [InlineData("vembar show de", "desks.vmb#Lending desk", "desks.vmb#Reading room")]
    [InlineData("vembar show desks.vmb#L", "desks.vmb#Lending desk", "desks.vmb#last")]
    [InlineData("vembar show \"desks.vmb#Lending desk@", "desks.vmb#Lending desk@2026.09", "desks.vmb#Lending desk@newest")]
    [InlineData("vembar files desks.vmb#1 Windows/System32/conf", "Windows/System32/config/")]
    [InlineData("vembar take desks.vmb#1 Windows Prog", "Program Files/", "ProgramData/")]
    [InlineData("vembar service desks.vmb#1 --tidy lo", "logs")]
    [InlineData("vembar service desks.vmb#1 --mend opt", "optical-driver-disabled")]
    [InlineData("vembar service desks.vmb#1 --time-zone GM", "GMT Standard Time")]
    [InlineData("vembar deploy desks.vmb#1 x.vhdx --layout b", "bios")]
    [InlineData("vembar capture references/lending-desk x.vmb --effort=d", "--effort=dense")]
    [InlineData("vembar capture references/lending-desk x.vmb --eff", "--effort")]
    [InlineData("vembar list desks.vmb --columns number,na", "number,name")]
    [InlineData("vembar survey disks/lending-desk.vh", "disks/lending-desk.vhdx")]
    // No files where none belong.
    [InlineData("vembar login ")]
    [InlineData("vembar capture references/lending-desk x.vmb --name ")]
    [InlineData("vembar show none.vmb#")]
    public void AWordBecomes(string line, params string[] expected) =>
        Assert.Equal(expected.Order(), Values(line).Where(v => expected.Length == 0 || expected.Contains(v)).Order());

    [Fact]
    public void WhatItIsStandsBesideAndOptionsComeLast()
    {
        Assert.Contains("list\tList the images of archives", Answer("vembar "));
        Assert.Contains("3\tWindows, Windows, ", string.Join('\n', Answer("vembar ready disks/lending-desk.vhdx --volume ")),
            StringComparison.Ordinal);
        Assert.DoesNotContain(Values("vembar station "), v => v.StartsWith('-'));
        var options = Values("vembar list desks.vmb --");
        Assert.True(Array.IndexOf(options, "--where") < Array.IndexOf(options, "--json"));
        // What was given and can be given once is not offered again.
        Assert.DoesNotContain("--all", Values("vembar list desks.vmb --all --"));
        Assert.Contains("--where", Values("vembar list desks.vmb --where state=held --"));
    }

    // Bash replaces what follows a quote that is open, or the last colon, and wants the rest quoted.
    [Theory]
    [InlineData("vembar show desks.vmb#Le", "desks.vmb#Lending\\ desk")]
    [InlineData("vembar show desks.vmb#\"Le", "Lending desk")]
    [InlineData("vembar show \"desks.vmb#Le", "desks.vmb#Lending desk")]
    [InlineData("vembar capture x --effort=de", "dense")]
    public void BashGetsWhatItPutsIn(string line, string expected) => Assert.Contains(expected, Values(line, "bash"));

    // The script in a real shell, as far as a shell without a terminal goes.
    [Fact]
    public void TheScriptOfBashAnswers()
    {
        folder.Fill(world);
        var script = $"""
            cd '{folder.Path}'
            PATH="{Path.GetDirectoryName(Vembar.Path)}:$PATH"
            source <(vembar completion bash)
            COMP_WORDS=(vembar show desks.vmb#Le) COMP_CWORD=2 COMP_LINE='vembar show desks.vmb#Le' COMP_POINT=24 COMP_TYPE=9
            _vembar 2>/dev/null
            printf '%s\n' "${"{COMPREPLY[@]}"}"
            COMP_LINE='vembar l' COMP_POINT=8 COMP_TYPE=63
            _vembar 2>/dev/null
            printf '%s\n' "${"{COMPREPLY[@]}"}"
            complete -p vembar
            """;
        var shown = Tools.Run("bash", ["--norc", "-c", script]);
        Assert.Equal(["desks.vmb#Lending\\ desk", "list    List the images of archives"], shown.Split('\n')[..2]);
        Assert.Contains("complete -F _vembar vembar", shown, StringComparison.Ordinal);
    }

    [Fact]
    public void TheScriptOfFishAnswers()
    {
        folder.Fill(world);
        var shown = Tools.Run("fish", ["--no-config", "-c", $"""
            set -x PATH '{Path.GetDirectoryName(Vembar.Path)}' $PATH
            cd '{folder.Path}'
            vembar completion fish | source
            complete -C 'vembar works'
            complete -C 'vembar show desks.vmb#Le'
            """]);
        Assert.Contains("workspace\tLay an image open", shown, StringComparison.Ordinal);
        Assert.Contains("desks.vmb#Lending desk\t", shown, StringComparison.Ordinal);
    }

    // At a terminal of its own: what is typed, with the key that completes, is what is run.
    [Fact]
    public void TheScriptOfZshAnswers()
    {
        folder.Fill(world);
        using var scripts = new TempFolder();
        scripts.Write("type.zsh", """
            zmodload zsh/zpty
            zpty z 'TERM=dumb zsh -f -i'
            zpty -w z 'PROMPT="> "; autoload -Uz compinit; compinit -u -D; eval "$(vembar completion zsh)"'
            zpty -w z 'preexec() { print -r "RUN:<$1>" }; print REA""DY'
            zpty -r z out '*READY*'
            for line in 'vembar works' 'vembar show desks.vmb#Readin'; do
                zpty -w -n z "$line"$'\t --plain --help\n'
                zpty -r z out '*RUN:<*>*'
                print -r -- "${${out##*RUN:<}%%>*}"
            done
            zpty -d z
            """);
        var shown = Tools.Run("bash", ["-c", $"cd '{folder.Path}' && PATH='{Path.GetDirectoryName(Vembar.Path)}':$PATH timeout 300 "
            + $"zsh -f '{scripts.At("type.zsh")}'"]);
        Assert.Equal(["vembar workspace --plain --help", "vembar show desks.vmb\\#Reading\\ room --plain --help"],
            shown.Split('\n', StringSplitOptions.RemoveEmptyEntries).Select(l => l.Replace("  ", " ", StringComparison.Ordinal)));
    }
}
