using System.Buffers.Binary;
using System.Globalization;
using System.Text;
using System.Xml;
using Vembar.Common;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Volumes.Sources;
using Vembar.Windows.Install;
using Vembar.Windows.Registry;

namespace Vembar.Windows.Inspection;

/// <summary>
/// Looks whether an install may be captured, in its own files and hives alone. What the values mean: docs/windows.md,
/// "Readiness".
/// </summary>
public sealed class ReadinessCheck
{
    /// <summary>How rules name the hive that new users' settings come from.</summary>
    internal const string NewUsers = "NTUSER.DAT";

    /// <summary>Where in SOFTWARE the identity for the update server is.</summary>
    internal const string UpdateClient = @"Microsoft\Windows\CurrentVersion\WindowsUpdate";

    private const long LongestText = 16 << 20;
    private const string AppStore = @"Microsoft\Windows\CurrentVersion\Appx\AppxAllUserStore";
    private const string ProfileList = @"Microsoft\Windows NT\CurrentVersion\ProfileList";
    private readonly IReadOnlyTree _source;
    private readonly string _windows;
    private readonly ReadinessOptions _options;
    private readonly List<Finding> _findings = [];
    private readonly Dictionary<string, RegistryHive?> _hives = new(StringComparer.OrdinalIgnoreCase);

    private ReadinessCheck(IReadOnlyTree source, string windows, ReadinessOptions options)
    {
        _source = source;
        _windows = windows;
        _options = options;
    }

    /// <summary>Runs all checks.</summary>
    /// <param name="source">The root of the install.</param>
    /// <param name="rules">The organisation's own checks.</param>
    /// <param name="options">What else is known.</param>
    /// <returns>What was found, the worst first.</returns>
    /// <exception cref="VembarException">There is no Windows.</exception>
    public static IReadOnlyList<Finding> Check(IReadOnlyTree source, IReadOnlyList<ReadinessRule> rules, ReadinessOptions? options = null)
    {
        var windows = WindowsInstall.FindFolder(source)
            ?? throw VembarException.Input("no-windows", $"{source.DisplayName} holds no Windows, so there is nothing to check",
            "Name the root of a Windows volume, or a disk with one.");
        var readiness = new ReadinessCheck(source, windows, options ?? new ReadinessOptions());
        foreach (var check in (Action[])
        [
            readiness.Volume, readiness.Hives, readiness.State, readiness.Generalizing, readiness.Updates, readiness.Identity,
                readiness.Logon,
            readiness.AnswerFiles, readiness.Services, readiness.Packages, readiness.Profiles, readiness.Ballast, readiness.SetupLogs,
        ])
            readiness.Guarded(check);
        var view = new InstallView(source, readiness.Hive, windows);
        foreach (var rule in rules)
            readiness.Guarded(() =>
            {
                if (rule.Check(view) is { } finding)
                    readiness._findings.Add(finding);
            });
        return [.. readiness._findings.OrderByDescending(f => f.Severity)];
    }

    /// <summary>Looks at each rule by itself.</summary>
    /// <param name="source">The root of the install.</param>
    /// <param name="rules">The rules.</param>
    /// <param name="options">What else is known.</param>
    /// <returns>Each rule, with the finding where it is not so.</returns>
    /// <exception cref="VembarException">There is no Windows.</exception>
    public static IReadOnlyList<(ReadinessRule Rule, Finding? Finding)> Look(IReadOnlyTree source, IReadOnlyList<ReadinessRule> rules,
        ReadinessOptions? options = null)
    {
        var windows = WindowsInstall.FindFolder(source)
            ?? throw VembarException.Input("no-windows", $"{source.DisplayName} holds no Windows, so there is nothing to check",
            "Name the root of a Windows volume, or a disk with one.");
        var readiness = new ReadinessCheck(source, windows, options ?? new ReadinessOptions());
        var view = new InstallView(source, readiness.Hive, windows) { Readiness = () => Check(source, [], options) };
        var outcomes = new List<(ReadinessRule, Finding?)>();
        foreach (var rule in rules)
        {
            Finding? finding;
            try
            {
                finding = rule.Check(view);
            }
            catch (VembarException problem) when (problem.Kind == ErrorKind.Input)
            {
                finding = new Finding(rule.Word, rule.Severity, rule.Text, problem.Message, "");
            }
            outcomes.Add((rule, finding));
        }
        return outcomes;
    }

    // What cannot be read is a finding, not an end.
    private void Guarded(Action check)
    {
        try
        {
            check();
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Input)
        {
            Add("unreadable", Severity.Stop, "a part of the install cannot be read, so it cannot be checked", problem.Message,
                "Let Windows check the volume (chkdsk), or take the disk from another copy.");
        }
    }

    private void Add(string check, Severity severity, string text, string found, string mend)
    {
        // One thing may show in several places.
        var same = _findings.FindIndex(f => f.Check == check && f.Text == text && f.Remedy == mend);
        if (same < 0)
            _findings.Add(new Finding(check, severity, text, found, mend));
        else if (!_findings[same].Found.Split("; ").Contains(found))
            _findings[same] = _findings[same] with { Found = $"{_findings[same].Found}; {found}" };
    }

    private WindowsPath In(params string[] parts) => parts.Aggregate(WindowsPath.Root.Child(_windows), (path, part) => path.Child(part));

    // Null when there is no such hive; one that is damaged is told once.
    private RegistryHive? Hive(string name)
    {
        if (_hives.TryGetValue(name, out var known))
            return known;
        _hives[name] = null;
        var path = name == NewUsers ? WindowsPath.Parse("Users/Default/NTUSER.DAT") : WindowsInstall.HivePath(_windows, name);
        if (_source.ReadFile(path, RegistryHive.Longest) is { } bytes)
            _hives[name] = RegistryHive.Open(bytes, write: false, $"'{path}'");
        return _hives[name];
    }

    private RegistryKey? Software(string path) => Hive("SOFTWARE")?.Key(path);

    private RegistryKey? Control(string path) => Hive("SYSTEM") is { } system ? WindowsInstall.ControlSet(system)?.Key(path) : null;

    /// <summary>How the file begins in which Windows keeps what was in memory; null where nothing is kept in it.</summary>
    /// <param name="source">The volume that it starts from.</param>
    internal static string? Hibernation(IReadOnlyTree source)
    {
        // A file that was resumed from begins otherwise ("wake"), and with zeros when nothing was saved.
        return source.ReadStart(WindowsPath.Root.Child("hiberfil.sys"), 4) is { Length: 4 } start
            && Encoding.ASCII.GetString(start) is ("HIBR" or "hibr" or "RSTR" or "rstr") and var mark ? mark : null;
    }

    private void Volume()
    {
        if (Hibernation(_source) is { } mark)
        {
            Add("hibernated", Severity.Stop, "Windows was hibernated, or shut down for a fast start: files of it are in memory only",
                $"hiberfil.sys begins with {mark}",
                "Start it and shut it down fully: `powercfg /h off`, then `shutdown /s /t 0`.");
        }
        if (_source is NtfsSource { IsDirty: true })
            Add("volume-not-closed", Severity.Stop, "the volume was not closed cleanly", "the volume's dirty flag is set",
                "Start Windows, let it check the volume (chkdsk), and shut it down fully.");
        if (_source is NtfsSource { IsJournalClean: false })
        {
            Add("journal-not-closed", Severity.Stop,
                "the volume's journal holds changes that were not written to their places, as after a power cut or in a snapshot of a "
                + "running machine",
                "$LogFile was not closed", "Start Windows and shut it down fully; take snapshots of machines that are shut down.");
        }
    }

    // Suhanov, "Windows registry file format specification": "Base block" and "Transaction log files".
    private void Hives()
    {
        var config = In("System32", "config");
        foreach (var name in (string[])["SYSTEM", "SOFTWARE", "SAM", "SECURITY", "DEFAULT"])
        {
            const int BaseBlock = 512;
            if (_source.ReadStart(config.Child(name), BaseBlock) is not { } head)
                continue;
            if (head.Length < BaseBlock || !head.AsSpan().StartsWith("regf"u8))
            {
                Add("hive-damaged", Severity.Stop, "a registry hive is not one", $"{config}/{name} does not begin as a hive",
                    "Take the disk from another copy.");
                continue;
            }
            uint first = BinaryPrimitives.ReadUInt32LittleEndian(head.AsSpan(4)),
                second = BinaryPrimitives.ReadUInt32LittleEndian(head.AsSpan(8));
            if (first != second)
            {
                Add("registry-not-flushed", Severity.Stop, "a registry hive was not written to its end",
                    string.Create(CultureInfo.InvariantCulture, $"{config}/{name}: sequence numbers {first} and {second}"),
                    "Start Windows and shut it down fully.");
            }
            foreach (var log in (string[])[".LOG1", ".LOG2"])
            {
                if (_source.ReadStart(config.Child(name + log), HiveLog.StartLength) is { } start
                    && HiveLog.NewerEntry(start, second) is { } sequence)
                {
                    Add("registry-not-flushed", Severity.Stop, "a registry hive lacks changes that only its log holds",
                        string.Create(CultureInfo.InvariantCulture, $"{config}/{name}{log}: entry {sequence}, the hive is at {second}"),
                        "Start Windows and shut it down fully.");
                }
            }
        }
    }

    private void State()
    {
        const string Again =
            @"Run `Windows\System32\Sysprep\sysprep.exe /generalize /oobe /shutdown` on the reference, "
            + "and do not start it again before it is captured.";
        var state = Software(@"Microsoft\Windows\CurrentVersion\Setup\State")?.GetString("ImageState") ?? "";
        switch (state)
        {
            case "IMAGE_STATE_GENERALIZE_RESEAL_TO_OOBE":
                break;
            case "IMAGE_STATE_GENERALIZE_RESEAL_TO_AUDIT":
                Add("audit-mode", Severity.Note, "generalized for audit mode: its first start asks no user anything", state,
                    "Generalize with /oobe for machines that go to people.");
                break;
            case "IMAGE_STATE_SPECIALIZE_RESEAL_TO_OOBE" or "IMAGE_STATE_SPECIALIZE_RESEAL_TO_AUDIT":
                Add("not-generalized", Severity.Stop, "started again after it was generalized: it is made for this one machine now", state,
                    Again);
                break;
            case "IMAGE_STATE_COMPLETE":
                Add("not-generalized", Severity.Stop, "in ordinary use, not generalized: every copy would have the same identity", state,
                    Again);
                break;
            case "IMAGE_STATE_UNDEPLOYABLE":
                Add("generalize-unfinished", Severity.Stop, "generalizing was cut off half-way", state,
                    "Go back to a copy from before, and see Windows/System32/Sysprep/Panther/setuperr.log.");
                break;
            default:
                Add("not-generalized", Severity.Stop, "it does not say whether it was generalized",
                    state.Length > 0 ? state : "ImageState is missing", Again);
                break;
        }
        var status = Hive("SYSTEM")?.Key(@"Setup\Status\SysprepStatus");
        uint? general = status?.GetDword("GeneralizationState"), cleanup = status?.GetDword("CleanupState");
        if ((general is not null and not 7) || (cleanup is not null and not 2))
        {
            Add("generalize-unfinished", Severity.Stop, "a generalize run was cut off or failed",
                string.Create(CultureInfo.InvariantCulture, $"SysprepStatus: GeneralizationState {general}, CleanupState {cleanup}"),
                "Go back to a copy from before, and see Windows/System32/Sysprep/Panther/setuperr.log.");
        }
        if (state.Length > 0 && TextOf(In("Setup", "State", "State.ini")) is { } text
            && !text.Contains(state, StringComparison.OrdinalIgnoreCase))
            Add("state-differs", Severity.Warn, "the registry and Setup/State/State.ini name different states",
                $"{state}; State.ini: {Line(text, "ImageState")}", "Find out what changed one of them; generalize again.");
        if (Hive("SYSTEM")?.Key(@"Setup\Upgrade") is not null)
            Add("upgraded", Severity.Warn, "upgraded from an older Windows: such installs fail more often when they are generalized",
                @"SYSTEM: Setup\Upgrade is there", "Install the reference anew.");
    }

    // What generalizing says of itself: why it failed, where it did, and how often it was begun.
    private void Generalizing()
    {
        const int Often = 5;
        var folder = In(GeneralizeLog.Folder.Split('/'));
        var act = GeneralizeLog.Read(_source, _windows);
        if (_findings.Exists(f => f is { Severity: Severity.Stop, Check: "not-generalized" or "generalize-unfinished" })
            && (TextOf(folder.Child(GeneralizeLog.ErrorLog)) ?? act) is { } log)
        {
            var reasons = GeneralizeLog.Reasons(log);
            foreach (var reason in reasons)
                Add(reason.Check, Severity.Stop, reason.Text, $"{(reason.Subject.Length > 0 ? $"{reason.Subject}{OwnerOf(reason.Subject)}: "
                    : "")}{reason.Line}", reason.Remedy);
            if (reasons.Count == 0 && GeneralizeLog.LastError(log) is { Length: > 0 } last)
                Add("generalize-failed", Severity.Stop, "generalizing failed, for a reason that is not among those known here", last,
                    $"See {folder}/{GeneralizeLog.ErrorLog}.");
        }
        if (act is not null && GeneralizeLog.Runs(act) is > 1 and var runs)
            Add("generalized-often", runs >= Often ? Severity.Warn : Severity.Note, "it was generalized more than once; Windows lets an "
                + "install be generalized a limited number of times", $"{runs} times, by setupact.log",
                "Generalize copies of the reference, never the reference itself.");
    }

    // Whose an app package is that not all have.
    private string OwnerOf(string package)
    {
        var users = (Software(AppStore)?.Subkeys ?? []).Where(k => k.Name.StartsWith("S-1-5-21-", StringComparison.OrdinalIgnoreCase)
            && k.Subkeys.Any(p => p.Name.Equals(package, StringComparison.OrdinalIgnoreCase))).Select(k => k.Name).ToList();
        return users.Count > 0 ? $" of {string.Join(", ", users.Select(AccountOf))}" : "";
    }

    private string AccountOf(string sid) => Software($@"{ProfileList}\{sid}")?.GetString("ProfileImagePath") is { Length: > 0 } path
        ? path[(path.LastIndexOfAny(['\\', '/']) + 1)..] : sid;

    private string? TextOf(WindowsPath path)
    {
        if (_source.ReadFile(path, LongestText) is not { } bytes)
            return null;
        using var reader = new StreamReader(new MemoryStream(bytes), Encoding.Latin1, detectEncodingFromByteOrderMarks: true);
        return reader.ReadToEnd();
    }

    private static string Line(string text, string word) =>
        text.Split('\n').FirstOrDefault(l => l.Contains(word, StringComparison.OrdinalIgnoreCase))?.Trim() ?? "names none";

    private void Updates()
    {
        const string Mend = "Restart Windows until no update is pending, then generalize again.";
        foreach (var path in (string[])
        [
            @"Microsoft\Windows\CurrentVersion\Component Based Servicing\RebootPending",
            @"Microsoft\Windows\CurrentVersion\Component Based Servicing\PackagesPending",
            @"Microsoft\Windows\CurrentVersion\WindowsUpdate\Auto Update\RebootRequired",
        ])
        {
            if (Software(path) is not null)
                Add("updates-pending", Severity.Stop, "an update waits for a restart", $@"SOFTWARE: {path} is there", Mend);
        }
        if (_source.Exists(In("WinSxS", "pending.xml")))
            Add("updates-pending", Severity.Stop, "an update waits for a restart", $"{In("WinSxS", "pending.xml")} is there", Mend);
        if (Control(@"Control\Session Manager")?.GetStrings("PendingFileRenameOperations") is { } renames && renames.Any(r => r.Length > 0))
        {
            var more = renames.Count > 2 ? $" and {renames.Count - 1} more" : "";
            Add("updates-pending", Severity.Stop, "files wait to be replaced at the next start",
                $"PendingFileRenameOperations: "
                + $"{renames.First(r => r.Length > 0)}{more}", Mend);
        }
    }

    private void Identity()
    {
        const string Leave = "Take the machine out of the domain, restart it, and generalize again.";
        if (Control(@"Services\Tcpip\Parameters")?.GetString("Domain") is { Length: > 0 } domain)
            Add("domain-member", Severity.Stop, "it is still in a domain", $@"Tcpip\Parameters: Domain is {domain}", Leave);
        // The name of the primary domain is there for a workgroup too; its security identifier is not.
        if (Hive("SECURITY") is { } security && security.Key(@"Policy\PolPrDmS")?.Get("") is (_, { Length: > 8 }))
        {
            var named = DomainName(security) is { Length: > 0 } name ? $", {name}" : "";
            Add("domain-member", Severity.Stop, "it is still in a domain",
                $@"SECURITY: Policy\PolPrDmS holds a domain's identifier{named}", Leave);
        }
        if (Software(@"Microsoft\Cryptography")?.GetString("MachineGuid") is { Length: > 0 } guid)
            Add("machine-guid", Severity.Note, "it has a machine GUID; generalizing takes it away at the next start",
                $"MachineGuid {guid}", "Nothing, when it was generalized.");
        if (Software(UpdateClient)?.GetString("SusClientId") is { Length: > 0 } client)
            Add("update-client-id", Severity.Note, "it has an identity for the update server; copies that share one hide each other there",
                $"SusClientId {client}", "Delete SusClientId and SusClientIdValidation.");
        if (Hive("SYSTEM")?.Key("MountedDevices")?.Values.Count is > 0 and var count)
            Add("mounted-devices", Severity.Note, "it remembers the disks of the reference machine", $"MountedDevices has {count} values",
                "Nothing, when it was generalized.");
    }

    // A counted text as the kernel keeps it: length, room, where it begins.
    private static string DomainName(RegistryHive security)
    {
        const int Head = 8;
        if (security.Key(@"Policy\PolPrDmN")?.Get("") is not (_, { Length: >= Head } bytes))
            return "";
        var length = BinaryPrimitives.ReadUInt16LittleEndian(bytes);
        return Head + length <= bytes.Length ? Encoding.Unicode.GetString(bytes, Head, length & ~1) : "";
    }

    private void Logon()
    {
        if (Software(@"Microsoft\Windows NT\CurrentVersion\Winlogon") is not { } logon)
            return;
        var isAutomatic = logon.GetString("AutoAdminLogon") == "1";
        if (logon.GetString("DefaultPassword") is { Length: > 0 })
        {
            Add("stored-password", Severity.Stop, "a password is stored in plain text; every copy would have it",
                $"Winlogon: DefaultPassword, for "
                + $"{logon.GetString("DefaultUserName") ?? "nobody"}{(isAutomatic ? ", logged on automatically" : "")}",
                "Delete DefaultPassword, set AutoAdminLogon to 0, change that password, and generalize again.");
        }
        else if (isAutomatic)
            Add("automatic-logon", Severity.Warn, "it logs on by itself",
                $"Winlogon: AutoAdminLogon is 1, for {logon.GetString("DefaultUserName") ?? "nobody"}",
                "Set AutoAdminLogon to 0, unless that is what the machines are for.");
    }

    /// <summary>The answer files in the places where Windows looks for them or leaves them.</summary>
    internal static IReadOnlyList<WindowsPath> AnswerFilesOf(IReadOnlyTree files, string windows)
    {
        WindowsPath In(params string[] parts) => parts.Aggregate(WindowsPath.Root.Child(windows), (path, part) => path.Child(part));
        var places = new List<WindowsPath> { In("Panther", "unattend.xml") };
        foreach (var folder in (WindowsPath[])[In("Panther", "Unattend"), In("System32", "Sysprep")])
            places.AddRange(files.Names(folder).Where(n => n.EndsWith(".xml", StringComparison.OrdinalIgnoreCase)).Select(folder.Child));
        return [.. places.Where(files.Exists)];
    }

    private void AnswerFiles()
    {
        foreach (var path in AnswerFilesOf(_source, _windows))
        {
            if (_source.ReadFile(path, LongestText) is not { } bytes)
                continue;
            var isOwn = _options.OwnAnswerFile is { } own && own.Equals(path.ToString(), StringComparison.OrdinalIgnoreCase);
            if (PasswordIn(bytes) is { } element)
            {
                if (isOwn)
                    Add("answer-file-password", Severity.Note, "the answer file that was put into the image holds a password",
                        $"{path}: {element}", "Nothing, when that is meant; Windows takes it out when it has used it.");
                else
                {
                    Add("answer-file-password", Severity.Stop, "an answer file with a password was left behind; every copy would hold it",
                        $"{path}: {element}",
                        "Delete the file, change that password, and generalize again.");
                }
            }
            else if (!isOwn)
                Add("answer-file-left", Severity.Warn, "an answer file was left behind; it would answer the first start of every copy",
                    $"{path}", "Delete it, unless it is meant to be there.");
        }
    }

    /// <summary>Whether an answer file holds a password.</summary>
    internal static bool HoldsPassword(byte[] answerFile) => PasswordIn(answerFile) is not null;

    // The name of the first element that holds one; Windows itself replaces those it has used.
    private static string? PasswordIn(byte[] bytes)
    {
        const string Replaced = "*SENSITIVE*DATA*DELETED*";
        try
        {
            using var reader = XmlReader.Create(new MemoryStream(bytes), new XmlReaderSettings
            {
                DtdProcessing = DtdProcessing.Prohibit,
                XmlResolver = null,
            });
            var open = new Stack<string>();
            while (reader.Read())
            {
                if (reader.NodeType == XmlNodeType.Element && !reader.IsEmptyElement)
                    open.Push(reader.LocalName);
                else if (reader.NodeType == XmlNodeType.EndElement)
                    open.Pop();
                else if (reader.NodeType is XmlNodeType.Text or XmlNodeType.CDATA && !string.IsNullOrWhiteSpace(reader.Value)
                    && reader.Value.Trim() != Replaced)
                {
                    var names = open.Take(2).ToArray();
                    var owner = names is ["Value", var outer, ..] ? outer : names is [var inner, ..] ? inner : "";
                    if (owner.EndsWith("Password", StringComparison.OrdinalIgnoreCase))
                        return owner;
                }
            }
        }
        catch (XmlException)
        {
            // Not an answer file that Windows would read.
        }
        return null;
    }

    private void Services()
    {
        if (Control(@"Services\cdrom")?.GetDword("Start") == 4)
            Add("optical-driver-disabled", Severity.Stop,
                "the driver of optical drives is disabled: the first start can hang at the welcome", @"Services\cdrom: Start is 4",
                "Set Start to 1.");
        if (Control(@"Services\WMPNetworkSvc")?.GetDword("Start") == 2)
            Add("media-sharing", Severity.Warn, "the media sharing service starts by itself, which is known to make generalizing fail",
                @"Services\WMPNetworkSvc: Start is 2", "Stop it and set it to start on demand before generalizing.");
    }

    private void Packages()
    {
        if (Software(AppStore) is not { } store)
            return;
        var forAll = (store.Key("Applications")?.Subkeys ?? []).Select(k => k.Name).ToHashSet(StringComparer.OrdinalIgnoreCase);
        foreach (var user in store.Subkeys.Where(k => k.Name.StartsWith("S-1-5-21-", StringComparison.OrdinalIgnoreCase)))
        {
            var alone = user.Subkeys.Select(k => k.Name).Where(n => !forAll.Contains(n)).ToList();
            if (alone.Count > 0)
            {
                var more = alone.Count > 3 ? $" and {alone.Count - 3} more" : "";
                Add("app-for-one-user", Severity.Warn,
                    "app packages are installed for one user only, which is known to make generalizing fail",
                    $"{AccountOf(user.Name)}: {string.Join(", ", alone.Take(3))}{more}",
                    "Remove them for that user (Remove-AppxPackage) or provision them for all.");
            }
        }
    }

    private void Profiles()
    {
        foreach (var key in Software(ProfileList)?.Subkeys ?? [])
        {
            // The built-in administrator's identifier ends in 500.
            if (!key.Name.StartsWith("S-1-5-21-", StringComparison.OrdinalIgnoreCase)
                || key.Name.EndsWith("-500", StringComparison.Ordinal) || key.GetString("ProfileImagePath") is not { Length: > 0 } path)
                continue;
            var folder = path[(path.LastIndexOfAny(['\\', '/']) + 1)..];
            Add("profile-left", Severity.Warn, "a user's profile was left; every copy would have it",
                $"{path}{SizeOf(WindowsPath.Root.Child("Users").Child(folder))}",
                "Delete the account and its profile, then generalize again.");
        }
    }

    private string SizeOf(WindowsPath path) =>
        _options.SizeOf?.Invoke(path) is { } bytes ? string.Create(CultureInfo.InvariantCulture, $" ({bytes / 1048576.0:0.0} MiB)") : "";

    private void Ballast()
    {
        var config = new[]
        {
            WindowsPath.Root.Child("Windows.old"), WindowsPath.Root.Child("$WINDOWS.~BT"), WindowsPath.Root.Child("$WINDOWS.~WS"),
            In("SoftwareDistribution", "Download"), In("Temp"), In("Minidump"), In("MEMORY.DMP"),
        };
        var found = config.Where(_source.Exists).Where(p => _source.Names(p).Count > 0 || p.Name.Contains('.')).ToList();
        if (found.Count > 0)
            Add("ballast", Severity.Note, "it holds what no copy needs", string.Join(", ", found.Select(p => $"{p}{SizeOf(p)}")),
                "A capture leaves most of it out; delete Windows.old and memory dumps on the reference.");
    }

    // A capture leaves them in; what they say of the reference is of no use to its copies.
    private void SetupLogs()
    {
        if (!_options.IsImage)
            return;
        var found = ((WindowsPath[])[In("Panther"), In("System32", "Sysprep", "Panther")])
            .SelectMany(f => _source.Names(f)
                .Where(n => n.EndsWith(".log", StringComparison.OrdinalIgnoreCase)
                    || n.EndsWith(".etl", StringComparison.OrdinalIgnoreCase)).Select(f.Child)).ToList();
        if (found.Count > 0)
        {
            var more = found.Count > 3 ? $" and {found.Count - 3} more" : "";
            Add("setup-logs", Severity.Note, "logs of set-up and generalizing are there, with names and accounts of the reference",
                $"{string.Join(", ", found.Take(3))}{more}", "Take them out.");
        }
    }
}
