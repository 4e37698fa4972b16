using System.Text;
using Vembar.Common;

namespace Vembar.Cli;

/// <summary>What to do against errors, in the words of this program: its commands and options.</summary>
internal static class AdviceText
{
    // By the advice's word; what stands in braces is one of its arguments.
    private static readonly Dictionary<string, string> s_texts = new(StringComparer.Ordinal)
    {
        ["accept-misfit"] = "See what it holds with `vembar files`, or write it all the same with --accept-misfit.",
        ["archive-locked"] = "Try again when it has finished, or wait for it with --wait SECONDS.",
        ["archive-moved"] = "Say where it is now with --archive FILE.",
        ["bad-answer-file"] = "Give other texts with --fill.",
        ["bad-name"] = "Give it with --name \"Reading room\".",
        ["bad-put"] = "Write --put house.bmp=Windows/Web/house.bmp.",
        ["bad-size"] = "Give a size with its unit, for instance --size \"64 GiB\"; a number alone means bytes.",
        ["archive-as-disk"] = "`vembar list {path}` shows its images.",
        ["base-circle"] = "Make one of them stand alone with `vembar copy`.",
        ["base-missing"] = "Put '{name}' beside it, or say where it is with --base PATH.",
        ["based-on-itself"] = "Leave out --based-on.",
        ["capture-anew"] = "Capture into a new archive, or read everything again with --reread.",
        ["capture-interrupted"] = "It is cut short or a capture into it was interrupted.",
        ["check-path"] = "Check the path.",
        ["nothing-to-keep"] = "`vembar survey DISK` says what is on it; `vembar userdata rules` prints what is kept.",
        ["not-shut-down"] = "Start it and shut it down fully (`shutdown /s /t 0`); or read it as it is with --accept-open.",
        ["known-accounts"] = "Name one of: {value}.",
        ["kernel-package"] = "Name a package of a kernel with --kernel.",
        ["use-starter"] = "Say it anew with `vembar starter use`.",
        ["make-starter"] = "Make one with `vembar starter make`.",
        ["not-user-files"] = "Name one that `vembar userdata list ARCHIVE` lists.",
        ["user-files-there"] = "Put them onto an install with `vembar userdata restore`; take single ones out with `vembar take`.",
        ["choose-target"] = "Choose another folder with --to.",
        ["compact-where"] = "Deploy to a disk image, a device, or a volume of one (--volume), or leave out --compact.",
        ["damaged-folder"] = "Let Windows check the volume (chkdsk), or leave such files out with --skip-unreadable.",
        ["disk-cut-short"] = "Copy it again from its origin; "
            + "`survey`, `ready`, `capture` and `userdata save` read the rest with --accept-damaged.",
        ["disk-not-closed"] =
        "Let the program that wrote it open and close it; `survey`, `ready`, `capture` and `userdata save` read it with --accept-damaged.",
        ["drivers-full"] = "Take some out with --driver-out.",
        ["encrypted-file"] = "Decrypt it on the reference, or leave it out with --leave-out.",
        ["entry-too-large"] = "Take some of them away, or leave it out with --leave-out.",
        ["heal"] = "Heal it with `vembar verify ARCHIVE --repair-from COPY`.",
        ["heal-image"] = "Heal it with `vembar verify {path} --repair-from COPY`; name another image by its number.",
        ["heal-or-recover"] =
        "Heal it with `vembar verify ARCHIVE --repair-from COPY`, or save what can be read with `vembar verify ARCHIVE --recover NEW.vmb`.",
        ["heal-or-rewind"] =
        "Heal it with `vembar verify ARCHIVE --repair-from COPY`, or go back to a state that `vembar history ARCHIVE` shows to be sound "
        + "with `vembar rewind ARCHIVE --to N`.",
        ["copy-again"] = "Copy its images to a new place from another copy, with `vembar copy`.",
        ["hive-full"] = "Make fewer changes, or tidy the hive first with --tidy registry.",
        ["allow-chain"] = "If that is right, allow its folder with `--allow-chain '{folder}'`.",
        ["allow-chain-of-file"] = "If that is right, name the folder of the file itself with `--allow-chain`, and let the image name it "
            + "there.",
        ["allow-chain-of-parent"] =
            "Put the parent beside it, allow its folder with `--allow-chain DIR`, or join both into one image (merge the checkpoint).",
        ["change-version"] = "Choose another channel, or change that version with `vembar retitle {image} --version TEXT`.",
        ["channel-out"] = "Take it off first: `vembar mark {image} --channel-out {channel}`.",
        ["compact-place"] = "Compact it: `vembar compact`.",
        ["confirm-compact"] = "Nothing was changed; --confirm does it without asking.",
        ["confirm-drop"] = "Nothing was changed; --confirm does it without asking.",
        ["image-changed"] = "Save it as an image of its own with --as NAME; `vembar diff` shows what differs.",
        ["image-in-channel"] = "Let it point at another version with `vembar mark OTHER --channel {channel}`, or take it off with "
        + "`vembar mark {image} --channel-out {channel}`.",
        ["image-locked"] = "Unlock it first, if that is meant: `vembar mark {image} --unlock`.",
        ["is-a-workspace"] = "Close it with 'vembar workspace close {folder}', or name another folder.",
        ["known-placeholders"] = "It has {value}.",
        ["list-runs"] = "`vembar builds` lists them.",
        ["list-paths"] = "List what there is with `vembar files {displayName} \"{good}\"`.",
        ["log-in"] = "Say who you are with `vembar login {place}`.",
        ["log-in-again"] = "Remove it, and log in again with `vembar login`.",
        ["lost-files"] =
            "Let Windows check the volume (chkdsk); with --skip-unreadable those are taken whose folder is known, under their paths.",
        ["much-is-gone"] = "If that is meant, give --accept-removals; if not, lay the image open anew.",
        ["name-disk"] = "Name one with --disk.",
        ["name-taken"] = "Save them into that image by leaving --as out, or into another with another name.",
        ["near-path"] = "Did you mean '{value}'?",
        ["new-disk-exists"] = "Name a file that is not there, or leave out --size and give --erase or --volume.",
        ["newer-state-damaged"] =
        "Save it with `vembar verify ARCHIVE --recover NEW.vmb` or heal it with --repair-from COPY; or give it up with `vembar verify "
        + "ARCHIVE --give-up-newer`.",
        ["history"] = "`vembar history {path}` lists the states.",
        ["newer-state-unknown"] = "`vembar verify {path}` says what can be done; until then, name the image by its number, or take the "
            + "archive as it was with --at-state {state}.",
        ["no-answer-file"] = "The image has no answer file; give one with --answers.",
        ["no-driver-store"] = "Leave out --image to compare the packages alone.",
        ["no-images"] = "Add one with `vembar capture`.",
        ["no-placeholders"] = "Leave out --fill.",
        ["no-profile"] = "Make one with 'vembar drivers hardware' on a machine of that model.",
        ["no-ranges"] = "Let the server answer requests for ranges (RFC 9110), or fetch the file and use it here.",
        ["no-room"] = "Make room there, choose another place, or try it all the same with --skip-room-check.",
        ["no-room-in-target"] = "Make room there, choose another target, or try it all the same with --skip-room-check.",
        ["no-room-on-volume"] = "Make the disk or the partition larger, or try it all the same with --skip-room-check.",
        ["no-such-archive"] = "Check the path, or make it with `vembar capture`.",
        ["no-such-disk"] = "Make a new disk image with --size, for instance --size \"64 GiB\".",
        ["no-such-path"] = "See what it holds with `vembar files`.",
        ["no-such-source"] = "Check the path.",
        ["no-such-state"] = "States can be gone back to until the archive is compacted; `vembar history` lists them.",
        ["no-such-volume"] = "Choose one of these with --volume.",
        ["no-sys"] = "Run it on a Linux machine of that model, or name a copy of its /sys with --from.",
        ["no-volumes"] = "Leave out --volume.",
        ["no-windows"] = "Name the volume with --volume to capture it as it is.",
        ["not-a-disk"] = "Leave out --size, --layout, --volume and --erase to deploy into the folder.",
        ["not-a-file"] = "Name one file, or take the folder with --to DIR.",
        ["not-a-folder"] = "Name a folder with --to.",
        ["not-a-workspace"] = "Lay an image open with 'vembar workspace open IMAGE DIR'.",
        ["not-an-archive"] = "Name a .vmb file that `vembar capture` made.",
        ["not-based-on"] = "Leave out --based-on, or name a new archive.",
        ["not-encrypted"] = "Write https://, or take it as it is with --insecure.",
        ["not-ntfs"] = "Format it with NTFS first, or make the disk anew with --erase.",
        ["not-ready"] = "Fix them on the reference, or capture it all the same with --accept-unready.",
        ["not-saved"] = "Save it, or give --lose-changes to lose them.",
        ["not-signed"] = "Have it signed with `vembar sign`, or name who signed it with --signed-by.",
        ["not-windows"] = "Leave out --answers and --computer-name.",
        ["nothing-to-capture"] = "See what the disk holds with `vembar survey {path}`.",
        ["nothing-to-give-up"] = "Nothing was changed. `vembar verify` tells what is damaged.",
        ["nothing-to-mark"] = "Give --channel, --channel-out, --lock, --unlock, --hold, --release or --retire.",
        ["nothing-to-retitle"] = "Give --name, --version, --edition, --note or --label.",
        ["nothing-to-service"] = "Give --order, or changes such as --driver, --package, --answers, --put.",
        ["other-archive"] = "Name that one with --archive.",
        ["other-state"] = "Choose another one; `vembar history` lists them.",
        ["other-layout"] = "Give --layout {layout} for machines that start so, or write it all the same with --accept-misfit.",
        ["output-exists"] = "Name another file with --out, or write over it with --overwrite.",
        ["overlaid-file"] = "Expand them on the reference before capturing it (compact /u /exe), or leave them out with --skip-unreadable.",
        ["placeholder-file"] = "Fetch it on the reference before capturing, or leave it out with --leave-out.",
        ["read-only-place"] = "Write a local archive or one in a registry, and copy it there.",
        ["secret-in-address"] = "Others could read it in the list of processes; give it to `vembar login` instead.",
        ["save-once-more"] = "Put that right and save once more: it is found that the image is saved.",
        ["see-damage"] = "Run `vembar verify` on the archive to see what it touches.",
        ["sign-first"] = "Sign it with `vembar sign`.",
        ["source-damaged"] = "The source is damaged. Take it from another copy, or leave such files out with --skip-unreadable.",
        ["take-copy-or-recover"] = "Take it from another copy, or save what can be read with `vembar verify ARCHIVE --recover NEW.vmb`.",
        ["target-exists"] =
        "Name a folder or a new file; or, when it is a disk: give --erase to divide it anew (all that is on it is lost), or --volume N "
        + "to deploy into a volume of it.",
        ["target-not-empty"] = "Name an empty or new folder, or keep what is there with --keep-existing.",
        ["too-deep"] = "Move what is in it further up, or leave it out with --leave-out.",
        ["too-large"] = "Leave it out with --leave-out, or split it.",
        ["trust-authority"] = "Give the certificate of who vouches for it with --ca FILE, or take it unseen with --insecure.",
        ["unreadable"] = "Let Windows check the volume (chkdsk), or leave such files out with --skip-unreadable.",
        ["version-apart"] = "Give the version by itself with --version.",
        ["volume-or-layout"] = "Give one or the other.",
        ["volume-not-empty"] = "Keep what is there with --keep-existing, or make the disk anew with --erase.",
        ["which-volume"] = "Say which one with --volume; `vembar survey {path}` tells them apart.",
        ["workspace-unfinished"] = "Take what you need out of it and close it with 'vembar workspace close {folder} --lose-changes'.",
    };

    // What follows a text that tells of something, within the same line.
    private static readonly Dictionary<string, string> s_continuations = new(StringComparer.Ordinal)
    {
        ["driver-path"] = "--driver-path reaches it",
        ["hide-passwords"] = "'vembar answers check --hide COPY' writes a copy that hides it, which does not protect it",
        ["newer-state-stays"] =
        "nothing is written over it until it is saved (--recover), healed (--repair-from) or given up (--give-up-newer)",
        ["other-locale"] = "set another one first: --locale {locale}",
        ["newer-state-known"] = "`vembar verify {path}` says what can be done",
        ["package-make"] = "'vembar package make' writes them",
        ["save-as"] = "save it with --as",
        ["with-dependents"] = "--with-dependents switches them off too",
    };

    // Errors that are told by options, which the layers do not know.
    private static readonly Dictionary<string, string> s_messages = new(StringComparer.Ordinal)
    {
        ["new-disk-exists"] = "the target '{target}' is there already, and --size makes a new disk image",
        ["volume-or-layout"] = "--volume deploys into a volume as it is; --size, --layout and --erase make the disk anew",
    };

    /// <summary>What is wrong.</summary>
    public static string MessageOf(VembarException error) =>
        error.Advice is { } advice && s_messages.TryGetValue(advice.Word, out var text) ? Fill(text, advice) : error.Message;

    /// <summary>What is to be told, with what would help.</summary>
    public static string Of(Notice notice) => With(notice.Text, notice.Advice);

    /// <summary>A text that tells of something, with what would help.</summary>
    /// <param name="text">The text.</param>
    /// <param name="advice">What would help; null for nothing.</param>
    public static string With(string text, Advice? advice) =>
        advice is null ? text : $"{text}; {Fill(s_continuations[advice.Word], advice)}";

    /// <summary>What to do against an error; empty when there is nothing to be said.</summary>
    public static string Of(VembarException error)
    {
        var advice = error.Advice is null ? "" : Of(error.Advice);
        return error.Hint.Length == 0 ? advice : advice.Length == 0 ? error.Hint : $"{advice} {error.Hint}";
    }

    /// <summary>The lines below an error: what is wrong each time, when it stands for several.</summary>
    public static IReadOnlyList<string> DetailsOf(VembarException error) => error.Problems.Count == 0 ? error.Details
        : [.. error.Problems.Select(p => Of(p) is { Length: > 0 } what ? $"{MessageOf(p)} ({what})" : MessageOf(p))];

    private static string Of(Advice advice)
    {
        if (advice.Word == "placeholders-left")
        {
            var options = advice.Arguments["names"].Split(' ').Select(n => n == "computer" ? "--computer-name NAME" : $"--fill {n}=TEXT");
            return $"Give {string.Join(" ", options)}.";
        }
        if (advice.Arguments.TryGetValue("path", out var path) && PathAdvice.Of(advice.Word, path) is { } meant)
            return meant;
        if (!s_texts.TryGetValue(advice.Word, out var text))
            throw new InvalidOperationException($"there are no words for the advice '{advice.Word}'");
        return Fill(text, advice);
    }

    private static string Fill(string text, Advice advice)
    {
        // Arguments may hold braces of their own, so the text is gone through once.
        var said = new StringBuilder();
        for (var at = 0; at < text.Length;)
        {
            var open = text.IndexOf('{', at);
            if (open < 0)
                return said.Append(text, at, text.Length - at).ToString();
            var close = text.IndexOf('}', open);
            said.Append(text, at, open - at).Append(advice.Arguments[text[(open + 1)..close]]);
            at = close + 1;
        }
        return said.ToString();
    }
}
