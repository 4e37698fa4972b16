using System.Globalization;
using System.Runtime.InteropServices;
using Vembar.Common;
using Vembar.Operations.Starters;
using Vembar.Operations.Stations.Contract;
using Vembar.Operations.Survey;
using Vembar.Windows.Servicing.Drivers;

namespace Vembar.Operations.Stations.Joining;

/// <summary>Finds out what a machine is, from Linux' /sys.</summary>
public static class MachineScan
{
    private const int MostContents = 32, LongestText = 200;

    /// <summary>What the machine is.</summary>
    /// <param name="sys">Its /sys, or a copy of another's.</param>
    /// <param name="disk">The disk that is meant; null for the first that it has.</param>
    /// <param name="host">What the work gets from the program that it runs in.</param>
    /// <param name="cancellation">Ends it.</param>
    public static async Task<MachineReport> RunAsync(string sys, string? disk, OperationHost host, CancellationToken cancellation)
    {
        IReadOnlyList<HardwareDevice> devices;
        try
        {
            devices = HardwareScan.Run(sys, null, IdNames.Load()).Devices;
        }
        catch (VembarException problem) when (problem.Code == "no-sys")
        {
            devices = [];
        }
        var disks = new List<ReportedDisk>();
        foreach (var path in disk is null ? DisksOf(sys) : [disk])
            disks.Add(await LookAsync(path, sys, host, cancellation).ConfigureAwait(false));
        return new MachineReport
        {
            Identity = new MachineIdentity
            {
                Uuid = Dmi(sys, "product_uuid").ToLowerInvariant(),
                Serial = Dmi(sys, "product_serial"),
                Vendor = Dmi(sys, "sys_vendor"),
                Product = Dmi(sys, "product_name"),
                Addresses = AddressesOf(sys),
            },
            Firmware = Directory.Exists(Path.Combine(sys, "firmware/efi")) ? "uefi" : "bios",
            SecureBoot = IsSecureBoot(sys),
            Architecture = RuntimeInformation.OSArchitecture == Architecture.Arm64 ? "arm64" : "x64",
            Memory = GC.GetGCMemoryInfo().TotalAvailableMemoryBytes,
            Disks = disks,
            Devices = [.. devices.Take(MachineReport.MostDevices)
            .Select(d => new ReportedDevice(Cut(d.Name), d.HardwareIds, d.CompatibleIds,
                d.Needed, d.Boot))],
        };
    }

    private static string Cut(string text)
    {
        var plain = string.Concat(text.Where(c => !char.IsControl(c)));
        return plain.Length <= LongestText ? plain : plain[..LongestText];
    }

    private static string Text(string path)
    {
        try
        {
            return File.Exists(path) ? Cut(File.ReadAllText(path).Trim()) : "";
        }
        catch (Exception failure) when (failure is IOException or UnauthorizedAccessException)
        {
            return "";
        }
    }

    private static string Dmi(string sys, string name) => Text(Path.Combine(sys, "class/dmi/id", name));

    // Adapters of their own, and not what Linux makes: those have a device.
    private static List<string> AddressesOf(string sys)
    {
        const int Most = 32;
        var folder = Path.Combine(sys, "class/net");
        if (!Directory.Exists(folder))
            return [];
        var all = Directory.EnumerateFileSystemEntries(folder).Order(StringComparer.Ordinal).Where(a => Path.GetFileName(a) != "lo")
            .ToList();
        var own = all.Where(a => Path.Exists(Path.Combine(a, "device"))).ToList();
        return [.. (own.Count > 0 ? own : all).Select(a => Text(Path.Combine(a, "address")).ToLowerInvariant())
            .Where(a => a.Length > 0 && a != "00:00:00:00:00:00").Distinct().Take(Most)];
    }

    // The variable of the UEFI specification: four bytes of attributes, one of the value.
    private static bool IsSecureBoot(string sys)
    {
        var path = Path.Combine(sys, "firmware/efi/efivars/SecureBoot-8be4df61-93ca-11d2-aa0d-00e098032b8c");
        try
        {
            return File.Exists(path) && File.ReadAllBytes(path) is [_, _, _, _, 1];
        }
        catch (Exception failure) when (failure is IOException or UnauthorizedAccessException)
        {
            return false;
        }
    }

    // Whole disks that stay: no loops, no memory, no optical drives, no sticks; not what a starter was started from, whatever it is.
    private static List<string> DisksOf(string sys)
    {
        var folder = Path.Combine(sys, "block");
        if (!Directory.Exists(folder))
            return [];
        return [.. Directory.EnumerateFileSystemEntries(folder).Order(StringComparer.Ordinal)
            .Where(b => Path.Exists(Path.Combine(b, "device")) && Text(Path.Combine(b, "removable")) != "1"
                && Text(Path.Combine(b, "ro")) != "1" && Text(Path.Combine(b, "size")) is not ("" or "0"))
            .Select(b => $"/dev/{Path.GetFileName(b)}").Where(d => !MediumFiles.IsMedium(d)).Take(MachineReport.MostDisks)];
    }

    private static async Task<ReportedDisk> LookAsync(string path, string sys, OperationHost host, CancellationToken cancellation)
    {
        var about = Path.Combine(sys, "block", Path.GetFileName(path));
        var model = Text(Path.Combine(about, "device/model"));
        try
        {
            var found = await new SurveyHandler(host).HandleAsync(new SurveyRequest(path), new Progress<OperationProgress>(), cancellation)
                .ConfigureAwait(false);
            return new ReportedDisk(path, found.Disk?.Bytes ?? 0, model, [.. found.Volumes.Take(MostContents).Select(v =>
                Cut(string.Create(CultureInfo.InvariantCulture, $"{v.Number} {v.FileSystem}{(v.Label.Length > 0 ? " " : "")}{v.Label}, "
                + $"{v.Length >> 20} MiB")
                + (v.Windows is { } windows ? $": {windows.Product}, {windows.ComputerName}" : "")))]);
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Input)
        {
            return new ReportedDisk(path, SizeOf(path, about), model, [Cut(problem.Message)]);
        }
    }

    private static long SizeOf(string path, string about)
    {
        const int Sector = 512;
        if (long.TryParse(Text(Path.Combine(about, "size")), CultureInfo.InvariantCulture, out var sectors))
            return sectors * Sector;
        try
        {
            return File.Exists(path) ? new FileInfo(path).Length : 0;
        }
        catch (IOException)
        {
            return 0;
        }
    }
}
