namespace Vembar.Windows.Servicing.Mending;

/// <summary>Something that the readiness checks find and that can be mended in an image, without Windows.</summary>
/// <param name="Name">The check's name.</param>
/// <param name="Title">What is done.</param>
/// <param name="IsOfAll">Whether it is done with "all"; what may be meant is not.</param>
public sealed record MendRule(string Name, string Title, bool IsOfAll = true)
{
    /// <summary>The word for all rules that are not only done by their own name.</summary>
    public const string Everything = "all";

    internal const string AnswerFilePassword = "answer-file-password", AnswerFileLeft = "answer-file-left",
        StoredPassword = "stored-password", AutomaticLogon = "automatic-logon",
        OpticalDriver = "optical-driver-disabled", MediaSharing = "media-sharing", MountedDevices = "mounted-devices",
        MachineGuid = "machine-guid", UpdateClientId = "update-client-id",
        SetupLogs = "setup-logs", Ballast = "ballast";

    /// <summary>All rules, in the order in which they are made.</summary>
    public static IReadOnlyList<MendRule> All { get; } =
    [
        new(AnswerFilePassword, "answer files with a password that were left behind go"),
        new(AnswerFileLeft, "other answer files that were left behind go"),
        new(StoredPassword, "the stored password goes, and nobody is logged on by himself"),
        new(AutomaticLogon, "nobody is logged on by himself", IsOfAll: false),
        new(OpticalDriver, "the driver of optical drives is on again"),
        new(MediaSharing, "the media sharing service starts on demand"),
        new(MountedDevices, "the reference machine's disks are forgotten"),
        new(MachineGuid, "the machine's identifier goes; Windows makes a new one"),
        new(UpdateClientId, "the identity for the update server goes; Windows makes a new one"),
        new(SetupLogs, "logs of set-up and generalizing go"),
        new(Ballast, "what an update, an older Windows and crashes left goes"),
    ];

    /// <summary>What readiness checks find and only Windows on the reference can mend.</summary>
    public static IReadOnlyList<string> NotOffline { get; } =
    [
        "not-generalized", "generalize-unfinished", "generalize-app", "generalize-updates", "generalize-limit", "generalize-bitlocker",
        "generalize-upgraded", "generalize-service", "generalize-failed", "generalized-often",
        "audit-mode", "state-differs", "upgraded", "hibernated", "volume-not-closed",
        "journal-not-closed", "registry-not-flushed", "hive-damaged", "updates-pending",
        "domain-member", "app-for-one-user", "profile-left", "unreadable",
    ];

    /// <summary>The rule for a check; null when there is none.</summary>
    public static MendRule? Find(string name) => All.FirstOrDefault(r => r.Name.Equals(name, StringComparison.OrdinalIgnoreCase));
}
