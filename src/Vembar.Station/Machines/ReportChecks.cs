using Vembar.Operations.Stations.Contract;
using Vembar.Station.Problems;

namespace Vembar.Station.Machines;

/// <summary>Looks whether what machines say makes sense. Whatever answers on the network can say anything.</summary>
public static class ReportChecks
{
    private const int LongestText = 200, MostIds = 64, MostAddresses = 32, MostLines = 64, MostEvents = 500, LongestLine = 4000,
        MostResults = 5000, MostKept = 100;

    /// <summary>Looks at what a machine says of itself.</summary>
    /// <exception cref="StationException">It makes no sense.</exception>
    public static void Look(MachineReport report)
    {
        var identity = report.Identity ?? throw Nonsense("who it is");
        if (report.Devices is null || report.Devices.Count > MachineReport.MostDevices || report.Disks is null
            || report.Disks.Count > MachineReport.MostDisks || identity.Addresses is null || identity.Addresses.Count > MostAddresses)
            throw Nonsense($"more than {MachineReport.MostDevices} devices, {MachineReport.MostDisks} disks or {MostAddresses} addresses");
        Texts([identity.Uuid, identity.Serial, identity.Vendor, identity.Product, .. identity.Addresses, report.Firmware,
            report.Architecture, report.Starter]);
        if (report.Firmware is not ("uefi" or "bios") || report.Architecture is not ("x64" or "x86" or "arm64") || report.Memory < 0)
            throw Nonsense("its firmware, architecture or memory");
        foreach (var disk in report.Disks)
        {
            if (disk?.Contents is null || disk.Bytes < 0 || disk.Contents.Count > MostLines)
                throw Nonsense("its disks");
            Texts([disk.Path, disk.Model, .. disk.Contents]);
        }
        foreach (var device in report.Devices)
        {
            if (device?.HardwareIds is null || device.CompatibleIds is null
                || device.HardwareIds.Count + device.CompatibleIds.Count > MostIds)
                throw Nonsense("its devices");
            Texts([device.Name, .. device.HardwareIds, .. device.CompatibleIds]);
        }
        if (Identifiers.Of(identity).Count == 0)
            throw StationException.Bad("no-identity",
                "the machine has no UUID, serial number or network address that could tell it from others");
    }

    /// <summary>Looks at what a machine says of its task.</summary>
    /// <exception cref="StationException">It makes no sense.</exception>
    public static void Look(TaskReport report)
    {
        if (report.Task is null || report.Number < 1 || report.Events is null || report.Events.Count > MostEvents)
            throw Nonsense("its task");
        if (report.Progress is { } progress && (progress.Phase is null || progress.Phase.Length > LongestText || progress.Done < 0
            || progress.Total < 0 || !double.IsFinite(progress.BytesPerSecond) || !double.IsFinite(progress.SecondsLeft)))
            throw Nonsense("its progress");
        foreach (var happened in report.Events)
        {
            if (happened is null || happened.Number < 1 || happened.Level is not ("info" or "warning" or "error") || happened.Text is null
                || happened.Text.Length > LongestLine)
                throw Nonsense("what happened");
        }
        if (report.Kept is { } kept && (kept.Count > MostKept
            || kept.Any(k => k is null || k.Image < 1 || k.Root is not { Length: > 0 and <= LongestText })))
            throw Nonsense("which user files are kept");
        if (report.Outcome is not { } outcome)
            return;
        if (outcome.Problem is null || outcome.Hint is null || outcome.Code is null || outcome.Details is null
            || outcome.Problem.Length > LongestLine || outcome.Details.Count > MostResults || outcome.Result is { } result
            && (result.Programs is null || result.Drivers is null || result.Checks is null || result.Warnings is null
            || result.Phases is null || result.UserFiles is null || result.UserFiles.Count > MostResults
            || result.Programs.Count + result.Drivers.Count + result.Checks.Count
            + result.Warnings.Count + result.Phases.Count > MostResults))
            throw Nonsense("its outcome");
    }

    private static void Texts(IEnumerable<string> texts)
    {
        if (texts.Any(t => t is null || t.Length > LongestText || t.Any(char.IsControl)))
            throw Nonsense($"a text longer than {LongestText} characters, or with control characters");
    }

    private static StationException Nonsense(string what) =>
        StationException.Bad("bad-report", $"what the machine says makes no sense: {what}");
}
