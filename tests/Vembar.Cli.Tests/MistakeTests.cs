using System.Text.RegularExpressions;
using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests;

/// <summary>Mistakes that people make, and what they are told: what is wrong, then what to do.</summary>
public sealed partial class MistakeTests(World world, MistakeFolder folder) : IClassFixture<MistakeFolder>
{
    [GeneratedRegex("\"[^\"]*\"|\\S+")]
    private static partial Regex Words();

    [Theory]
    // What is named is not there, or is something else.
    [InlineData(2, "list", "no archive was named", "vembar init")]
    [InlineData(3, "list desks", "there is no archive 'desks'", "Did you mean 'desks.vmb'?")]
    [InlineData(3, "list dsks.vmb", "there is no archive 'dsks.vmb'", "Did you mean 'desks.vmb'?")]
    [InlineData(3, "list nowhere.vmb", "there is no archive 'nowhere.vmb'", "Check the path")]
    [InlineData(3, "list .", "'.' is a folder, not an archive", "Did you mean './desks.vmb'?")]
    [InlineData(3, "list house", "'house' is a folder, not an archive", "Name a .vmb file")]
    [InlineData(3, "list desks.vmb#1", "there is no archive 'desks.vmb#1'", "That names an image; an archive is wanted: 'desks.vmb'.")]
    [InlineData(3, "verify desks.vmb#1", "there is no archive", "an archive is wanted: 'desks.vmb'")]
    [InlineData(3, "history desks.vmb#1", "there is no archive", "an archive is wanted: 'desks.vmb'")]
    [InlineData(3, "list house/opening-hours.txt", "is not a Vembar archive", "Name a .vmb file")]
    [InlineData(3, "show desks.vmb", "holds 2 images", "ARCHIVE#NUMBER")]
    [InlineData(3, "show desks.vmb#99", "holds no image '99'", "Name one of those it holds")]
    [InlineData(3, "show \"desks.vmb#Reading rom\"", "holds no image 'Reading rom'", "Did you mean \"Reading room\" (number 2)?")]
    [InlineData(3, "show \"desks.vmb#Reading room@2027\"", "has no version or channel '2027'", "Name one of those that it has")]
    [InlineData(3, "show references/lending-desk", "is a folder, not an archive", "Name a .vmb file")]
    [InlineData(3, "show disks/lending-desk.vhdx", "is not a Vembar archive", "Name a .vmb file")]
    [InlineData(3, "survey desks.vmb", "is an archive of images, not a disk", "vembar list desks.vmb")]
    [InlineData(3, "survey desks.vmb#1", "there is no folder or disk 'desks.vmb#1'", "a disk or a folder is wanted")]
    [InlineData(3, "ready nothing.vhdx", "there is no folder or disk", "Check the path")]
    [InlineData(3, "files desks.vmb#1 Windows/Sytem32", "has no 'Windows/Sytem32'", "Did you mean 'Windows/System32'?")]
    [InlineData(3, "files desks.vmb#1 *.nothing", "matches '*.nothing'", "'**/*.nothing' looks in all of them")]
    [InlineData(3, "take desks.vmb#1 **/*.nothing --to out", "matches '**/*.nothing'", "")]
    [InlineData(3, "take desks.vmb#1 Windows/nothing --to out", "has no 'Windows/nothing'", "vembar files")]
    [InlineData(3, "drivers house", "there is no INF file in 'house'", "Unpack the vendor's driver package first")]
    [InlineData(3, "package make house", "holds no package.yaml", "Name a folder or a zip file")]
    [InlineData(3, "answers check house/opening-hours.txt", "is not well-formed XML", "")]
    [InlineData(3, "order check orders/nothing.yaml", "there is no such file or folder", "Check the path")]
    [InlineData(3, "build nothing.yaml", "there is no such file or folder", "Check the path")]
    [InlineData(3, "build orders/reading-room.yaml", "is not a valid recipe", "")]
    [InlineData(3, "builds show 1", "there is no run '1'", "")]
    [InlineData(3, "sites", "there is no project file here", "vembar init")]
    [InlineData(3, "rewind desks.vmb --to 999", "has no state 999", "")]
    [InlineData(3, "drop desks.vmb#77", "holds no image '77'", "Name one of those it holds")]
    [InlineData(3, "capture spoiled/not-generalized.qcow2 new.vmb --name x", "is not ready to be captured", "--accept-unready")]
    // Operands are the wrong way round, or something of them is missing.
    [InlineData(2, "capture desks.vmb references/lending-desk --name x", "'desks.vmb' is an archive, and stands where the source belongs",
        "vembar capture references/lending-desk desks.vmb")]
    [InlineData(3, "capture desks.vmb new.vmb --name x", "is an archive of images, not a disk", "vembar list desks.vmb")]
    [InlineData(2, "station --plain", "'vembar station' needs a command", "serve, boot, join")]
    [InlineData(2, "deploy x.vhdx desks.vmb#1", "stands where the target belongs", "vembar deploy desks.vmb#1 x.vhdx")]
    [InlineData(3, "capture desks.vmb#1 new.vmb --name x", "there is no folder or disk", "vembar deploy desks.vmb#1 DISK")]
    [InlineData(2, "capture references/lending-desk new.vmb", "'vembar capture' needs --name NAME", "The image's name")]
    [InlineData(2, "deploy desks.vmb#1", "'vembar deploy' needs TARGET", "a block device")]
    [InlineData(2, "deploy", "2 things are wrong", "'vembar deploy' needs IMAGE")]
    [InlineData(2, "diff desks.vmb#1", "'vembar diff' needs TO", "")]
    [InlineData(2, "take desks.vmb#1", "'vembar take' needs --to DIR|-", "")]
    [InlineData(2, "take desks.vmb#1 --to out", "it was not said what to take", "Name paths")]
    [InlineData(2, "rewind desks.vmb", "'vembar rewind' needs --to STATE", "vembar history")]
    [InlineData(2, "workspace open desks.vmb#1", "'vembar workspace open' needs DIR", "")]
    [InlineData(2, "station approve", "'vembar station approve' needs MACHINE", "")]
    [InlineData(2, "station machines", "no station was named", "--station")]
    [InlineData(2, "login", "'vembar login' needs PLACE", "oci://")]
    [InlineData(2, "userdata save disks/lending-desk.vhdx", "needs --machine NAME", "")]
    [InlineData(2, "completion", "'vembar completion' needs SHELL", "bash, zsh or fish")]
    [InlineData(2, "show desks.vmb 1", "does not take '1'", "Did you mean 'desks.vmb#1'?")]
    [InlineData(2, "show desks.vmb#Reading room", "does not take 'room'", "desks.vmb#\"Reading room\"")]
    // Words that are misspelt, or belong elsewhere.
    [InlineData(2, "lst desks.vmb", "there is no command 'lst'", "Did you mean 'list'?")]
    [InlineData(2, "workspace opn desks.vmb#1 w", "'vembar workspace' has no command 'opn'", "Did you mean 'open'?")]
    [InlineData(2, "station machine", "'vembar station' has no command 'machine'", "Did you mean 'machines'?")]
    [InlineData(2, "recipe chek x", "'vembar recipe' has no command 'chek'", "Did you mean 'check'?")]
    [InlineData(2, "help ordrs", "there is no command or subject 'ordrs'", "Did you mean 'orders'?")]
    [InlineData(2, "list --jsn", "does not take '--jsn'", "Did you mean '--json'?")]
    [InlineData(2, "service desks.vmb#1 --drivers drivers --plan", "does not take '--drivers'", "Did you mean '--driver'?")]
    [InlineData(2, "show desks.vmb#1 --only program", "--only 'program' is none of", "Did you mean 'programs'?")]
    [InlineData(2, "capture house new.vmb --name x --effort hard", "--effort 'hard' is none of balanced, dense, quick", "")]
    [InlineData(2, "capture house new.vmb --name x --volume two", "--volume 'two' is not a whole number", "Which volume")]
    [InlineData(2, "mark desks.vmb#1 --channel", "--channel needs a value: --channel NAME", "pilot")]
    [InlineData(2, "mark desks.vmb#1", "it was not said how to mark the image", "--channel")]
    [InlineData(2, "retitle desks.vmb#1", "nothing was said to change", "--name")]
    [InlineData(2, "service desks.vmb#1", "it was not said where the result goes", "--plan")]
    [InlineData(2, "service desks.vmb#1 --in-place", "no change was asked for", "--driver")]
    [InlineData(2, "service desks.vmb#1 --feature Nothing --plan", "is not NAME=on or NAME=off", "")]
    [InlineData(2, "service desks.vmb#1 --put house/opening-hours.txt --plan", "is not FILE=PATH", "--put")]
    [InlineData(2, "service desks.vmb#1 --as x --in-place --tidy all", "exclude each other", "Choose one")]
    [InlineData(2, "list desks.vmb --columns number,colour", "no column", "")]
    [InlineData(2, "deploy desks.vmb#1 new.vhdx --size big", "'big' is not a size", "64 GiB")]
    [InlineData(2, "deploy desks.vmb#1 new.vhdx --size 64", "too small for Windows", "a number alone means bytes")]
    [InlineData(3, "deploy desks.vmb#1 new.vhdx", "there is no disk 'new.vhdx'", "--size")]
    [InlineData(3, "deploy desks.vmb#1 disks/lending-desk.vhdx", "is there already", "--erase")]
    [InlineData(2, "take desks.vmb#1 Windows --too out", "does not take '--too'", "Did you mean '--to'?")]
    [InlineData(2, "deploy desks.vmb#1 new.vhdx --size 64GiB --computer-name THIS-NAME-IS-MUCH-TOO-LONG", "15 are allowed", "")]
    public void AMistakeIsToldWithWhatToDo(int code, string line, string wrong, string advice)
    {
        folder.Fill(world);
        var before = folder.Names();
        var words = Words().Matches(line).Select(m => m.Value.Trim('"')).ToArray();
        var ran = Vembar.Finish(Vembar.Start(words, start => start.WorkingDirectory = folder.Path));
        Assert.True(code == ran.Code, ran.Output + ran.Error);
        Assert.Equal("", ran.Output);
        Assert.StartsWith("vembar: ", ran.Error, StringComparison.Ordinal);
        Assert.Contains(wrong, ran.Error, StringComparison.Ordinal);
        Assert.Contains(advice, ran.Error, StringComparison.Ordinal);
        Assert.DoesNotContain("   at ", ran.Error, StringComparison.Ordinal);
        Assert.Equal(before, folder.Names());
    }

    [Fact]
    public void WithoutACommandThereIsHelp()
    {
        var bare = Vembar.Run();
        Assert.Equal((2, ""), (bare.Code, bare.Error));
        Assert.Contains("\nLook at a reference:\n  survey ", bare.Output, StringComparison.Ordinal);
        Assert.Contains("see `vembar --help`", bare.Output, StringComparison.Ordinal);
        Assert.DoesNotContain("On every command", bare.Output, StringComparison.Ordinal);
        Assert.Equal(Vembar.Run("station", "--help").Output, Vembar.Run("station").Output);
        Assert.Equal("bad-command-line", Vembar.Run("station", "--json").JsonError.GetProperty("code").GetString());
    }
}
