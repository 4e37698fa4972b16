using System.Diagnostics;
using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using Vembar.Common;
using Vembar.Operations.Copy;

namespace Vembar.Operations.Starters;

/// <summary>Makes a medium of a starter: one file that is a stick and a virtual CD at once, for BIOS and UEFI, with secure boot on or off.
/// Without images that it carries, the same starter and packages give the same bytes.</summary>
public sealed class MakeMediumHandler(OperationHost host) : IOperationHandler<MakeMediumRequest, MakeMediumResult>
{
    private const string Bios = "usr/lib/grub/i386-pc";

    private static readonly string[] s_packages =
        ["xorriso", "mtools", "dosfstools", "grub-common", "grub-pc-bin", "grub-efi-amd64-signed", "shim-signed",
            "shim-helpers-amd64-signed"];

    // What the BIOS's boot loader needs to read the medium and show a menu.
    private static readonly string[] s_modules =
        ["biosdisk", "iso9660", "part_gpt", "part_msdos", "search", "search_fs_file", "normal", "linux", "configfile", "echo", "minicmd",
            "test"];

    /// <summary>Makes it.</summary>
    /// <exception cref="VembarException">Something of it is not there; then nothing was made.</exception>
    public async Task<MakeMediumResult> HandleAsync(MakeMediumRequest request, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var clock = Stopwatch.StartNew();
        var starter = Starter.Read(request.Starter);
        Check(request);
        var output = Path.GetFullPath(request.Output);
        void Tell(string phase, string what = "") => progress.Report(new OperationProgress(phase, 0, 0, false, what));
        Tell("getting packages");
        var packages = await new DebianPackages(request.Cache).GetAsync(s_packages, p => Tell("getting packages", p), cancellation)
            .ConfigureAwait(false);
        var scratch = $"{output}.making-{Guid.NewGuid():N}";
        Directory.CreateDirectory(scratch);
        try
        {
            var tree = Directory.CreateDirectory(Path.Combine(scratch, "medium")).FullName;
            var names = await CarryAsync(request, tree, progress, cancellation).ConfigureAwait(false);
            Tell("putting it together");
            var name = $"{starter.Manifest.Name} {starter.Manifest.Version}";
            var commandLine = CommandLine(request);
            var id = IdOf(starter, commandLine, Path.Combine(tree, MediumFiles.Archive));
            await PutStarterAsync(tree, starter, id, cancellation).ConfigureAwait(false);
            var boot = Directory.CreateDirectory(Path.Combine(tree, "boot/grub")).FullName;
            await File.WriteAllTextAsync(Path.Combine(boot, "grub.cfg"), MediumFiles.Menu(name, commandLine, names,
                request.Station is not null), cancellation).ConfigureAwait(false);
            await PutBiosAsync(scratch, boot, id, packages, cancellation).ConfigureAwait(false);
            var system = await MakeSystemPartitionAsync(scratch, id, packages, cancellation).ConfigureAwait(false);
            Settle(tree);
            Tell("writing");
            var made = Path.Combine(scratch, "made");
            await PackagedFiles.RunAsync(packages, Demand(packages, "the medium is written by it", "usr/bin/xorriso"),
                ["-as", "mkisofs", "-quiet", "-r", "-iso-level", "3", "-V", MediumFiles.Label, "-o", made,
                "--grub2-mbr", Demand(packages, "a BIOS starts sticks by it", $"{Bios}/boot_hybrid.img"), "-partition_offset", "16",
                "-c", "boot/boot.cat", "-b", "boot/grub/bios.img", "-no-emul-boot", "-boot-load-size", "4", "-boot-info-table",
                "--grub2-boot-info", "-eltorito-alt-boot", "-e", "--interval:appended_partition_2:all::", "-no-emul-boot",
                "-append_partition", "2", "0xef", system, "-appended_part_as_gpt", tree], cancellation).ConfigureAwait(false);
            var described = await StarterFile.ReadAsync(scratch, Path.GetFileName(made), cancellation).ConfigureAwait(false);
            File.Move(made, output);
            return new MakeMediumResult(starter, described.Bytes, names, described.Sha256, clock.Elapsed.TotalSeconds);
        }
        catch (Exception failure) when (VembarException.From(failure, "make", output) is { } error)
        {
            throw error;
        }
        finally
        {
            if (Directory.Exists(scratch))
                Directory.Delete(scratch, recursive: true);
        }
    }

    private static void Check(MakeMediumRequest request)
    {
        var problems = new List<VembarException>();
        if (Path.GetExtension(request.Output).ToLowerInvariant() is not (".img" or ".iso"))
            problems.Add(new VembarException(ErrorKind.Usage, "bad-medium", $"'{request.Output}' is neither an .img nor an .iso",
                "Both are the same: a file that is written onto a stick as it is, or put into a virtual drive."));
        if (Path.Exists(request.Output))
            problems.Add(VembarException.Input("target-exists", $"'{request.Output}' is there already", "Name a file that is not there."));
        else if (!Directory.Exists(Path.GetDirectoryName(Path.GetFullPath(request.Output))))
            problems.Add(VembarException.Input("no-such-folder", $"there is no folder for '{request.Output}'", Advice.Of("check-path")));
        if (request.Station is { } station)
            MakeStarterHandler.CheckStation(problems, station);
        if (!MediumFiles.IsPlain(request.Arguments))
            problems.Add(new VembarException(ErrorKind.Usage, "bad-arguments", "arguments of the kernel are one plain line",
                "Leave out quotes and $ ` ; { } \\ | & < > #."));
        Checks.Throw(problems);
    }

    private static string CommandLine(MakeMediumRequest request) => string.Join(' ', new[]
    {
        "quiet panic=10", request.Station is null ? "" : $"vembar.station={request.Station}", request.IsAttended ? "vembar.attended=1" : "",
        request.Arguments.Trim(),
    }.Where(a => a.Length > 0));

    private static string Demand(IReadOnlyList<DebianPackage> packages, string why, string place) =>
        PackagedFiles.Demand(packages, why, place);

    // An archive with nothing but the images that are meant.
    private async Task<IReadOnlyList<string>> CarryAsync(MakeMediumRequest request, string tree, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var names = new List<string>();
        foreach (var image in request.Images)
        {
            var copied = await new CopyHandler(host).HandleAsync(new CopyRequest(image, Path.Combine(tree, MediumFiles.Archive), null, null,
                TimeSpan.Zero), progress, cancellation).ConfigureAwait(false);
            names.Add(copied.Image.Title);
        }
        return names;
    }

    private static string IdOf(Starter starter, string commandLine, string archive)
    {
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        foreach (var file in starter.Manifest.Files)
            hash.AppendData(Encoding.UTF8.GetBytes($"{file.Name} {file.Sha256}\n"));
        hash.AppendData(Encoding.UTF8.GetBytes(commandLine));
        if (File.Exists(archive))
            hash.AppendData(Guid.NewGuid().ToByteArray());
        return Convert.ToHexStringLower(hash.GetCurrentHash())[..16];
    }

    private static async Task PutStarterAsync(string tree, Starter starter, string id, CancellationToken cancellation)
    {
        var folder = Directory.CreateDirectory(Path.Combine(tree, MediumFiles.StarterFolder)).FullName;
        foreach (var name in (string[])[StarterManifest.KernelFile, StarterManifest.InitialFile, StarterManifest.FileName])
            File.Copy(Path.Combine(starter.Folder, name), Path.Combine(folder, name));
        foreach (var file in starter.Manifest.Files)
        {
            if (File.Exists(Path.Combine(folder, file.Name))
                && await StarterFile.ReadAsync(folder, file.Name, cancellation).ConfigureAwait(false) != file)
                throw VembarException.Damaged($"'{file.Name}' of the starter in '{starter.Folder}' is not what was made",
                    Advice.Of("make-starter"));
        }
        await File.WriteAllTextAsync(Path.Combine(tree, MediumFiles.MarkOf(id)), "", cancellation).ConfigureAwait(false);
    }

    private static async Task PutBiosAsync(string scratch, string boot, string id, IReadOnlyList<DebianPackage> packages,
        CancellationToken cancellation)
    {
        var first = Path.Combine(scratch, "first.cfg");
        await File.WriteAllTextAsync(first, MediumFiles.First(id), cancellation).ConfigureAwait(false);
        var folder = Path.GetDirectoryName(Demand(packages, "a BIOS starts by it", $"{Bios}/kernel.img"))!;
        await PackagedFiles.RunAsync(packages, Demand(packages, "the BIOS's boot loader is made by it", "usr/bin/grub-mkimage"),
            ["-d", folder, "-O", "i386-pc-eltorito", "-o", Path.Combine(boot, "bios.img"), "-p", "/boot/grub", "-c", first, .. s_modules],
            cancellation).ConfigureAwait(false);
    }

    // A FAT file system with the signed boot loaders, which look for the rest beside it.
    private static async Task<string> MakeSystemPartitionAsync(string scratch, string id, IReadOnlyList<DebianPackage> packages,
        CancellationToken cancellation)
    {
        var files = Directory.CreateDirectory(Path.Combine(scratch, "system")).FullName;
        var boot = Directory.CreateDirectory(Path.Combine(files, "EFI/BOOT")).FullName;
        var grub = Directory.CreateDirectory(Path.Combine(files, "boot/grub")).FullName;
        const string Why = "UEFI starts by it";
        File.Copy(Demand(packages, Why, "usr/lib/shim/shimx64.efi.signed"), Path.Combine(boot, "BOOTX64.EFI"));
        File.Copy(Demand(packages, Why, "usr/lib/shim/mmx64.efi.signed"), Path.Combine(boot, "mmx64.efi"));
        File.Copy(Demand(packages, Why, "usr/lib/grub/x86_64-efi-signed/gcdx64.efi.signed"), Path.Combine(boot, "grubx64.efi"));
        await File.WriteAllTextAsync(Path.Combine(grub, "grub.cfg"), MediumFiles.First(id) + "configfile ($root)/boot/grub/grub.cfg\n",
            cancellation).ConfigureAwait(false);
        Settle(files);
        const int Step = 1 << 20;
        var bytes = Directory.EnumerateFiles(files, "*", SearchOption.AllDirectories).Sum(f => new FileInfo(f).Length);
        var partition = Path.Combine(scratch, "system.fat");
        using (var file = File.Create(partition))
            file.SetLength((bytes / Step + 2) * Step);
        await PackagedFiles.RunAsync(packages, PackagedFiles.Demand(packages, Why, "usr/sbin/mkfs.fat", "sbin/mkfs.fat"),
            ["--invariant", "-n", "STARTER", "-i", uint.Parse(id[..8], NumberStyles.HexNumber, CultureInfo.InvariantCulture)
                .ToString("x8", CultureInfo.InvariantCulture), partition], cancellation).ConfigureAwait(false);
        // One program with many names, by which it is told what to do.
        var copy = Path.Combine(scratch, "mcopy");
        File.CreateSymbolicLink(copy, PackagedFiles.Demand(packages, Why, "usr/bin/mcopy", "usr/bin/mtools"));
        await PackagedFiles.RunAsync(packages, copy,
            ["-Q", "-s", "-m", "-i", partition, Path.Combine(files, "EFI"), Path.Combine(files, "boot"), "::/"], cancellation)
            .ConfigureAwait(false);
        return partition;
    }

    // One time for all files: that of FAT's beginning.
    private static void Settle(string tree)
    {
        var time = new DateTime(1980, 1, 2, 0, 0, 0, DateTimeKind.Utc);
        foreach (var path in Directory.EnumerateFileSystemEntries(tree, "*", SearchOption.AllDirectories).Append(tree))
        {
            if (Directory.Exists(path))
                Directory.SetLastWriteTimeUtc(path, time);
            else
                File.SetLastWriteTimeUtc(path, time);
        }
    }
}
