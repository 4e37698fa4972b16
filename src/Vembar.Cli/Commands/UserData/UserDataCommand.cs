using System.CommandLine;
using Vembar.Cli.Json;
using Vembar.Images.Records;
using Vembar.Operations.UserData;
using Vembar.Store.Places;
using Vembar.Windows.UserData;

namespace Vembar.Cli.Commands.UserData;

internal static class UserDataCommand
{
    private const string KeptArchive = "kept.vmb";

    public static VembarCommand Create()
    {
        var command = new VembarCommand("userdata",
            "Keep the files that users made on a machine, and put them back onto its next install: see `vembar help user-files`",
            $"vembar userdata save old-desk.img {KeptArchive} --machine TVL-DESK-001",
            $"vembar userdata restore {KeptArchive}#TVL-DESK-001 new-desk.img", $"vembar userdata list {KeptArchive}");
        command.Subcommands.Add(Save());
        command.Subcommands.Add(Restore());
        command.Subcommands.Add(List());
        command.Subcommands.Add(Rules());
        return command;
    }

    private static Option<string[]> Accounts(string description) => new("--account")
    {
        Description = description,
        HelpName = "NAME",
        DefaultValueFactory = _ => [],
    };

    private static VembarCommand Save()
    {
        var source = new Argument<string>("SOURCE")
        {
            Description = "The disk with the install: a disk image or a block device; or the install's root folder",
        };
        var archive = SharedOptions.Archive("The archive that they go into; made when there is none");
        var machine = new Option<string>("--machine")
        {
            Description = "The machine that they are of: the image's name; its version is the day",
            HelpName = "NAME",
            Required = true,
        };
        var rules = new Option<string?>("--rules")
        {
            Description = "What is kept, where it is not the usual: `vembar userdata rules` prints that",
            HelpName = "FILE",
        };
        var accounts = Accounts("Keep the files of this account alone; '*' and '?' match; may be given several times");
        var volume = SharedOptions.Volume();
        var skip = new Option<bool>("--skip-unreadable")
        {
            Description = "Leave out files that cannot be read, and name them, instead of failing",
        };
        var open = new Option<bool>("--accept-open")
        {
            Description = "Read an install that was not shut down fully: what was in memory only is lost",
        };
        var effort = SharedOptions.Effort();
        var wait = SharedOptions.Wait();
        var (damaged, chain) = (SharedOptions.AcceptDamaged(), SharedOptions.AllowChain());
        return new VembarCommand("save", "Keep the files that users made on an install, and make sure that they can be read again",
            $"vembar userdata save old-desk.img {KeptArchive} --machine TVL-DESK-001",
            $"vembar userdata save /dev/sda {KeptArchive} --machine TVL-DESK-001 --account anna --rules keep.yaml")
            .With(source, archive, machine, accounts, rules, volume, skip, open, damaged, chain, effort, wait)
            .Does(async (parse, session) =>
            {
                var result = await session.Do(new SaveUserDataHandler(session.Host), new SaveUserDataRequest
                {
                    Source = parse.GetRequiredValue(source),
                    Archive = SharedOptions.PlaceOf(parse, archive, session),
                    Machine = parse.GetRequiredValue(machine),
                    Reading = SharedOptions.Reading(parse, chain, damaged),
                    Rules = KeepRules.Read(parse.GetValue(rules)),
                    Accounts = parse.GetRequiredValue(accounts),
                    Volume = parse.GetValue(volume),
                    SkipUnreadable = parse.GetValue(skip),
                    AcceptOpen = parse.GetValue(open),
                    Effort = SharedOptions.EffortOf(parse.GetRequiredValue(effort)),
                    Wait = TimeSpan.FromSeconds(parse.GetValue(wait)),
                });
                session.Warn(result.Warnings);
                session.Result(new UserDataSaveJson(result.Archive, result.Image, result.IsNew, result.Stats, result.LeftOut,
                    result.Warnings, result.IsReadBack), json => json.UserDataSaveJson, () => Show(result, session));
                return ExitCode.Done;
            });
    }

    private static void Show(SaveUserDataResult result, Session session)
    {
        var image = result.Image;
        Session.Line(result.IsNew ? $"User files of {image.Name} are image {image.Number} {image.Title} in {result.Archive}."
            : $"Nothing changed: user files of {image.Name} are image {image.Number} {image.Title} in {result.Archive} already.");
        Session.Line();
        var table = new Table("Account", "Kind", "Kept", "~>Files", ">Size", "~Profile");
        foreach (var account in image.UserFiles!.Accounts)
            table.Row(account.Name, Kind(account), account.IsWhole ? "whole profile" : "files", Text.Number(account.Files),
                Text.Size(account.Bytes), account.Folder);
        table.Print(session);
        Session.Line();
        Session.Line($"  {Text.Count(image.Files, "file")}, {Text.Size(image.Bytes)}; {Text.Size(result.Stats.BytesNew)} of it were new, "
            + $"the archive grew by {Text.Size(result.Stats.BytesStored)}");
        if (result.LeftOut.Count > 0)
            Session.Line($"  {Text.Count(result.LeftOut.Count, "file or folder", "files and folders")} were left out by rules "
                + "(--json lists them)");
        Session.Line(result.IsReadBack ? "  read back and compared: it can be put back"
            : "  the station looked at all of it: it can be put back");
    }

    private static string Kind(KeptAccount account) =>
        account.IsDomain ? "domain" : account.Sid.Length > 0 ? "this machine" : "folder without an account";

    private static VembarCommand Restore()
    {
        var image = SharedOptions.Image();
        var target = new Argument<string>("TARGET")
        {
            Description = "The disk with the new install: a disk image or a block device; or the install's root folder",
        };
        var accounts = Accounts("Put back the files of this account alone; '*' and '?' match; may be given several times");
        var volume = SharedOptions.Volume();
        var chain = SharedOptions.AllowChain();
        return new VembarCommand("restore", "Put user files that were kept onto an install: domain accounts go on with their profiles, "
            + $"files of others come into '{RestoreUserDataHandler.FolderName}' in their documents. Nothing that is there is replaced",
            $"vembar userdata restore {KeptArchive}#TVL-DESK-001 new-desk.img",
            $"vembar userdata restore {KeptArchive}#TVL-DESK-001@2026-11-28 /dev/sda --account anna")
            .With(image, target, accounts, volume, chain, SharedOptions.AtState).Does(async (parse, session) =>
            {
                var result = await session.Do(new RestoreUserDataHandler(session.Host), new RestoreUserDataRequest
                {
                    Image = SharedOptions.ImageOf(parse, image, session),
                    Target = parse.GetRequiredValue(target),
                    Reading = SharedOptions.Reading(parse, chain),
                    Accounts = parse.GetRequiredValue(accounts),
                    Volume = parse.GetValue(volume),
                });
                session.Warn(result.Warnings);
                session.Result(new UserDataRestoreJson(result.Image, result.Target, result.Accounts, result.Files, result.Bytes,
                    result.Kept,
                    result.Differences, result.Warnings, result.Seconds), json => json.UserDataRestoreJson, () => Show(result, session));
                return result.Differences.Count > 0 ? ExitCode.NotInOrder : ExitCode.Done;
            });
    }

    private static void Show(RestoreUserDataResult result, Session session)
    {
        Session.Line($"User files of {result.Image.Name}, image {result.Image.Number} {result.Image.Title}, are on {result.Target}.");
        Session.Line();
        var table = new Table("Account", "Where", "What", ">Files", ">Size");
        foreach (var account in result.Accounts)
            table.Row(account.Name, account.To, account.IsProfile ? "profile: the account goes on with it" : "files",
                Text.Number(account.Files), Text.Size(account.Bytes));
        table.Print(session);
        Session.Line();
        Session.Line($"  {Text.Count(result.Files, "file")}, {Text.Size(result.Bytes)} written and read back"
            + Text.Took(result.Seconds));
        if (result.Kept.Count > 0)
            Session.Line($"  {Text.Count(result.Kept.Count, "file")} were there already and were left as they are");
        foreach (var difference in result.Differences)
            Session.Line($"  differs  {Text.Safe(difference)}");
    }

    private static VembarCommand List()
    {
        var archive = SharedOptions.Archive("The archive of user files");
        return new VembarCommand("list", "List whose files an archive holds, by machine and day", $"vembar userdata list {KeptArchive}")
            .With(archive, SharedOptions.AtState).Does(async (parse, session) =>
            {
                var place = SharedOptions.PlaceOf(parse, archive, session);
                var images = await session.Do(new ListUserDataHandler(session.Host), place);
                session.Result(new UserDataListJson(place.Path, images), json => json.UserDataListJson, () => Show(place, images, session));
                return ExitCode.Done;
            });
    }

    private static void Show(ArchiveLocation place, IReadOnlyList<ImageRecord> images, Session session)
    {
        if (images.Count == 0)
        {
            Session.Line($"{place} holds no user files.");
            return;
        }
        var table = new Table(">Image", "Machine", "Version", "~Kept", "Accounts", "~>Files", ">Size");
        foreach (var image in images)
            table.Row($"{image.Number}", image.Name, image.Version, Text.Time(image.Created),
                string.Join(", ", image.UserFiles!.Accounts.Select(a => a.Name)), Text.Number(image.Files), Text.Size(image.Bytes));
        table.Print(session);
    }

    private static VembarCommand Rules() => new VembarCommand("rules",
        "Print the rules by which user files are kept, as a file to begin one's own with", "vembar userdata rules > keep.yaml")
        .Does((parse, session) =>
        {
            session.Result(new UserDataRulesJson(KeepRules.Usual), json => json.UserDataRulesJson,
                () => Session.Line(KeepRules.Usual.TrimEnd()));
            return ExitCode.Done;
        });
}
