using System.Globalization;
using Vembar.Common;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Operations.Deploy;
using Vembar.Operations.Drivers;
using Vembar.Operations.Stations.Contract;
using Vembar.Store.Reading;
using Vembar.Volumes.Targets;
using Vembar.Windows.Install;
using Vembar.Windows.Servicing.Drivers;

namespace Vembar.Operations.Stations;

/// <summary>Looks beforehand whether a machine can get an image: what would fail, or leave it without disk or network.</summary>
public sealed class FitHandler(OperationHost host) : IOperationHandler<FitRequest, FitResult>
{
    /// <summary>Looks; nothing is written.</summary>
    /// <exception cref="VembarException">There is no such image, or it cannot be read.</exception>
    public async Task<FitResult> HandleAsync(FitRequest request, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var (reference, machine, wanted, trust) = request;
        var refusals = new List<Refusal>();
        void Try(Action look, bool canBeAccepted)
        {
            try
            {
                look();
            }
            catch (VembarException problem) when (problem.Kind is ErrorKind.Input or ErrorKind.Usage)
            {
                refusals.Add(new Refusal(problem.Code, problem.Message, canBeAccepted));
            }
        }
        using var archive = ArchiveReader.Open(reference.Archive, host.Files);
        var image = archive.Find(reference.Which, host.Clock);
        var title = $"image {image.Number} {image.Title}";
        var layout = wanted.Length > 0 ? wanted : machine.Firmware == "bios" ? "bios" : "uefi";
        if (trust is not null)
            Try(() => trust.Demand(image, archive.Path), canBeAccepted: false);
        if (image.IsRetired(host.Today))
            refusals.Add(new Refusal("retired", $"{title} is retired", true));
        if (image.Held)
            refusals.Add(new Refusal("held", $"{title} is held back", true));
        if (image.State is { Length: > 0 } state && !state.StartsWith("generalized", StringComparison.Ordinal))
            refusals.Add(new Refusal("not-generalized", $"{title} is {state}, not generalized: every machine would have the same identity",
                true));
        if (image.Architecture is { Length: > 0 } architecture && !Runs(machine.Architecture, architecture))
            refusals.Add(new Refusal("wrong-architecture", $"{title} is for {architecture}, the machine is {machine.Architecture}", false));
        if (layout == "bios" != (machine.Firmware == "bios"))
            refusals.Add(new Refusal("wrong-firmware", $"the disk would be divided for {layout}, the machine's firmware is "
                + $"{machine.Firmware}", true));
        Try(() => TargetChecks.Fits(archive, image, DiskLayout.Named(layout)), canBeAccepted: true);
        if (machine.Disks is not [var disk, ..])
            refusals.Add(new Refusal("no-disk", "the machine has no disk that it could be written to", false));
        else
            Try(() => CheckRoom(disk, image, layout), canBeAccepted: false);
        var drivers = await DriversAsync(archive, image, reference, machine, refusals, progress, cancellation).ConfigureAwait(false);
        return new FitResult(image, layout, drivers, refusals);
    }

    private static bool Runs(string machine, string image) => machine == image || (machine == "x64" && image is "x86" or "amd64");

    private static void CheckRoom(ReportedDisk disk, ImageRecord image, string layout)
    {
        const int SectorSize = 512, PerFile = 3 << 10;
        var named = DiskLayout.Named(layout);
        var table = named.Place(disk.Bytes, SectorSize);
        var room = table.Partitions[named.Partitions.ToList().FindIndex(p => p.Role == PartitionRole.Windows)].Length;
        var needed = image.Bytes + image.Files * PerFile;
        if (room < needed)
            throw VembarException.Input("disk-too-small", string.Create(CultureInfo.InvariantCulture,
                $"{disk.Path} has room for {room >> 20} MiB of Windows, image {image.Number} takes about {needed >> 20}"));
    }

    private async Task<IReadOnlyList<DeviceDriver>> DriversAsync(ArchiveReader archive, ImageRecord image, ImageReference reference,
        MachineReport machine, List<Refusal> refusals, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var tree = new ImageTree(archive, image.Root, $"{archive.Path}#{image.Number}");
        if (machine.Devices.Count == 0 || WindowsInstall.FindFolder(tree) is null)
            return [];
        try
        {
            var devices = machine.Devices.Select(d =>
                new HardwareDevice(d.Name, d.HardwareIds, d.CompatibleIds, d.Needed, d.Boot)).ToList();
            var coverage = await new CoverageHandler(host).HandleAsync(new CoverageRequest([], reference with
            {
                Which = image.Number.ToString(CultureInfo.InvariantCulture),
            }, "", [new HardwareProfile("machine", devices)], DriverTrust.Nobody), progress, cancellation).ConfigureAwait(false);
            foreach (var device in coverage.Models[0].Devices.Where(d => d.Urgency < 2))
            {
                refusals.Add(new Refusal(device.Device.Boot ? "no-storage-driver" : "no-driver",
                    $"image {image.Number} {image.Title} has no driver for {device.Device.Name}"
                    + (device.Device.Boot ? ", without which Windows does not reach its disk" : ", which the machine needs"), true));
            }
            return [.. coverage.Models[0].Devices.Select(d => new DeviceDriver(d.Device.Name,
                d.Chosen is { } chosen ? $"{chosen.Driver.Name} {chosen.Driver.Version}".TrimEnd() : "", d.Device.Needed))];
        }
        catch (VembarException problem) when (problem.Code == "no-driver-store")
        {
            refusals.Add(new Refusal(problem.Code, problem.Message, true));
            return [];
        }
    }
}
