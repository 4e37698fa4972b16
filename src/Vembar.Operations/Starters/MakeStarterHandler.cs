using System.Diagnostics;
using System.Globalization;
using System.Text.Json;
using Vembar.Common;
using Vembar.Native;
using Vembar.Native.Helpers;
using Vembar.Windows.Servicing.Drivers;

namespace Vembar.Operations.Starters;

/// <summary>Makes a starter: a kernel and an initial file system with which a bare machine joins a station. The same packages, program and
/// files give the same bytes.</summary>
public sealed class MakeStarterHandler(OperationHost host) : IOperationHandler<MakeStarterRequest, MakeStarterResult>
{
    private const string Libraries = "usr/lib/x86_64-linux-gnu";

    private static readonly string[] s_packages =
        ["busybox-static", "kmod", "ntfs-3g", "dosfstools", "mtools", "efibootmgr", "openssl", "libzstd1", "libnorm1", "libc6", "ipxe",
            "shim-signed",
            "shim-helpers-amd64-signed", "grub-efi-amd64-signed"];

    private static readonly string[] s_programs = ["mkntfs", "mkfs.fat", "mcopy", "efibootmgr"];

    // Opened while the program runs, so that nothing says beforehand that they are needed.
    private static readonly string[] s_opened = ["libssl.so.3", "libcrypto.so.3", "libzstd.so.1", "libnorm.so.1", "libresolv.so.2"];

    // Whatever disks and cards a desktop has; by folders of the kernel's source.
    private static readonly string[] s_folders =
    [
        "drivers/net/ethernet", "drivers/net/usb", "drivers/net/phy", "drivers/net/hyperv", "drivers/net/vmxnet3", "drivers/net/virtio_net",
        "drivers/nvme/host", "drivers/ata", "drivers/scsi/megaraid", "drivers/scsi/mpt3sas", "drivers/scsi/hpsa", "drivers/scsi/smartpqi",
        "drivers/scsi/aacraid", "drivers/scsi/virtio_scsi", "drivers/scsi/hv_storvsc", "drivers/scsi/storvsc", "drivers/scsi/vmw_pvscsi",
        "drivers/mmc", "drivers/pci/controller", "drivers/block/virtio_blk", "drivers/char/hw_random", "drivers/message/fusion",
    ];

    // What every machine needs: disks as such, USB with keyboards and sticks, file systems of sticks, variables of the firmware.
    private static readonly string[] s_always =
    [
        "sd_mod", "sr_mod", "ahci", "nvme", "xhci_pci", "xhci_hcd", "ehci_pci", "uhci_hcd", "ohci_pci", "usb_storage", "uas", "usbhid",
        "hid_generic", "vfat", "nls_cp437", "nls_ascii", "nls_iso8859_1", "isofs", "udf", "exfat", "loop", "efivarfs", "af_packet",
        "virtio_pci", "virtio_mmio", "virtio_net", "virtio_blk", "virtio_scsi", "virtio_rng", "crc32c_generic", "ipv6",
    ];

    /// <summary>Makes it.</summary>
    /// <exception cref="VembarException">Something of it is not there; then nothing was made.</exception>
    public async Task<MakeStarterResult> HandleAsync(MakeStarterRequest request, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var clock = Stopwatch.StartNew();
        var profiles = request.Only.Count > 0 ? HardwareProfile.ReadAll(request.Only) : [];
        Check(request);
        var output = Path.GetFullPath(request.Output);
        var version = request.Version ?? host.Today.ToString("yyyy.MM.dd", CultureInfo.InvariantCulture);
        void Tell(string phase, string what = "") => progress.Report(new OperationProgress(phase, 0, 0, false, what));
        Tell("getting packages");
        var kernel = request.Kernel
            ?? await DebianPackages.NewestAsync("linux-image-amd64", "linux-image-", cancellation).ConfigureAwait(false)
            ?? throw VembarException.Environment("no-such-package", "apt knows no kernel ('linux-image-amd64')", "Run `apt-get update`.");
        var packages = await new DebianPackages(request.Cache).GetAsync([.. s_packages, kernel], p => Tell("getting packages", p),
            cancellation)
            .ConfigureAwait(false);
        var kernelFolder = packages.Single(p => p.Name == kernel).Folder;
        var modules = await ModulesAsync(kernelFolder, packages, request.Cache, cancellation).ConfigureAwait(false);
        Tell("putting it together");
        var chosen = modules.With(Choose(modules, profiles));
        var files = new InitialFiles();
        PutSystem(files, packages);
        PutProgram(files, request.Program, packages);
        PutModules(files, modules, chosen);
        PutOwn(files, request, version);
        var scratch = $"{output}.making-{Guid.NewGuid():N}";
        Directory.CreateDirectory(scratch);
        try
        {
            File.Copy(Directory.EnumerateFiles(Path.Combine(kernelFolder, "boot"), "vmlinuz-*").Single(),
                Path.Combine(scratch, StarterManifest.KernelFile));
            var loaders = PutLoaders(scratch, packages);
            Tell("compressing");
            await Task.Run(() => Compress(files, Path.Combine(scratch, StarterManifest.InitialFile), cancellation), cancellation)
                .ConfigureAwait(false);
            var described = new List<StarterFile>();
            foreach (var name in new[] { StarterManifest.KernelFile, StarterManifest.InitialFile }.Concat(loaders))
                described.Add(await StarterFile.ReadAsync(scratch, name, cancellation).ConfigureAwait(false));
            var manifest = new StarterManifest
            {
                Name = request.Name,
                Version = version,
                Program = Checks.ProgramVersion,
                Kernel = modules.Release,
                Station = request.Station ?? "",
                Models = [.. profiles.Select(p => p.Model)],
                Modules = [.. chosen],
                Firmware = request.Firmware is { } firmware ? [.. Directory.EnumerateFiles(firmware, "*", SearchOption.AllDirectories)
                    .Select(f => Path.GetRelativePath(firmware, f)).Order(StringComparer.Ordinal)] : [],
                FirmwareOf = await FirmwareOfAsync(modules, chosen, cancellation).ConfigureAwait(false),
                Packages = [.. packages.Select(p => new StarterPackage(p.Name, p.Version, p.Sha256))],
                Loaders = loaders,
                Files = described,
            };
            await File.WriteAllBytesAsync(Path.Combine(scratch, StarterManifest.FileName),
                JsonSerializer.SerializeToUtf8Bytes(manifest, StarterJson.Default.StarterManifest), cancellation).ConfigureAwait(false);
            await File.WriteAllLinesAsync(Path.Combine(scratch, StarterManifest.AliasFile),
                modules.Aliases.All.Where(a => chosen.Contains(a.Module))
                .Select(a => $"alias {a.Pattern} {a.Module}"), cancellation).ConfigureAwait(false);
            Directory.Move(scratch, output);
            return new MakeStarterResult(new Starter(output, manifest), manifest.Files.Sum(f => f.Bytes), [], clock.Elapsed.TotalSeconds);
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

    private static void Check(MakeStarterRequest request)
    {
        var problems = new List<VembarException>();
        if (Path.Exists(request.Output))
            problems.Add(VembarException.Input("target-exists", $"'{request.Output}' is there already",
                "Name a folder that is not there."));
        if (request.Name.Length == 0 || request.Name.Any(c => char.IsControl(c) || c is '"' or '\'' or '$' or '`' or '\\'))
            problems.Add(new VembarException(ErrorKind.Usage, "bad-name", "a starter's name is a plain text", "Choose another name."));
        if (request.Version?.Any(c => !char.IsAsciiLetterOrDigit(c) && c is not ('.' or '-' or '_')) == true)
            problems.Add(new VembarException(ErrorKind.Usage, "bad-version", "a starter's version is of letters, digits, '.', '-' and '_'",
                "Give one like 2026.11."));
        if (request.Station is { } station)
            CheckStation(problems, station);
        foreach (var folder in (string?[])[request.Tools, request.Firmware])
        {
            if (folder is not null && !Directory.Exists(folder))
                problems.Add(VembarException.Input("no-such-folder", $"there is no folder '{folder}'", Advice.Of("check-path")));
        }
        foreach (var file in (string?[])[request.Script, request.Authority])
        {
            if (file is not null && !File.Exists(file))
                problems.Add(VembarException.Input("no-such-file", $"there is no file '{file}'", Advice.Of("check-path")));
        }
        if (File.Exists(Path.Combine(request.Program, "vembar.dll")))
            problems.Add(VembarException.Environment("needs-runtime",
                "this program runs on the .NET runtime, which a starter does not have",
                "Build it ahead of time (`make build` without JIT=true), and use that one."));
        Checks.Throw(problems);
    }

    /// <summary>Whether an address can stand in a starter's own files, and on a kernel's command line.</summary>
    internal static void CheckStation(List<VembarException> problems, string station)
    {
        if (!Uri.TryCreate(station, UriKind.Absolute, out var uri) || uri.Scheme != Uri.UriSchemeHttps || !MediumFiles.IsPlain(station)
            || station.Contains(' ', StringComparison.Ordinal))
            problems.Add(new VembarException(ErrorKind.Usage, "bad-station", $"'{station}' is not an address of a station",
                "Write it as https://HOST:PORT."));
    }

    // depmod is run from its package: the system's may be another one, or none.
    private static async Task<KernelModules> ModulesAsync(string kernel, IReadOnlyList<DebianPackage> packages, string cache,
        CancellationToken cancellation)
    {
        var root = new[] { "lib/modules", "usr/lib/modules" }.Select(f => Path.Combine(kernel, f)).FirstOrDefault(Directory.Exists)
            ?? throw VembarException.Input("bad-kernel", "the package of the kernel holds no modules",
            Advice.Of("kernel-package"));
        var folder = Directory.EnumerateDirectories(root).Single();
        // The last one that depmod writes: another run may be at it.
        if (!File.Exists(Path.Combine(folder, "modules.devname")))
        {
            var kmod = Path.Combine(packages.Single(p => p.Name == "kmod").Folder, "bin/kmod");
            if (!File.Exists(kmod))
                kmod = Path.Combine(packages.Single(p => p.Name == "kmod").Folder, "usr/bin/kmod");
            var tool = Path.Combine(cache, "depmod");
            if (new FileInfo(tool).LinkTarget != kmod)
            {
                File.Delete(tool);
                File.CreateSymbolicLink(tool, kmod);
            }
            await PackagedFiles.RunAsync(packages, tool, ["-b", kernel, Path.GetFileName(folder)], cancellation).ConfigureAwait(false);
        }
        return KernelModules.Read(folder);
    }

    private static IEnumerable<string> Choose(KernelModules modules, IReadOnlyList<HardwareProfile> profiles)
    {
        if (profiles.Count == 0)
            return s_always.Concat(modules.Below(s_folders));
        return s_always.Concat(profiles.SelectMany(p => p.Devices)
            .SelectMany(d => HardwareAlias.Of([.. d.HardwareIds, .. d.CompatibleIds])).SelectMany(modules.Aliases.For));
    }

    private static string? Library(IReadOnlyList<DebianPackage> packages, string name) =>
        packages.SelectMany(p => PackagedFiles.LibraryFolders.Select(f => p.FileAt($"{f}/{name}"))).OfType<string>().FirstOrDefault();

    // A program with all libraries that it and they need.
    private static void PutBinary(InitialFiles files, string path, string from, IReadOnlyList<DebianPackage> packages)
    {
        files.AddFile(path, from, runs: true);
        if (ElfFile.Read(File.ReadAllBytes(from)) is not { } elf)
            return;
        foreach (var name in elf.Needed)
            PutLibrary(files, name, packages, $"'{Path.GetFileName(from)}' needs it");
        if (elf.Interpreter.Length > 0 && !files.Has(elf.Interpreter.TrimStart('/')))
            files.AddFile(elf.Interpreter.TrimStart('/'), Library(packages, Path.GetFileName(elf.Interpreter))
                ?? throw PackagedFiles.Lacks(Path.GetFileName(elf.Interpreter), "programs are loaded by it"), runs: true);
    }

    private static void PutLibrary(InitialFiles files, string name, IReadOnlyList<DebianPackage> packages, string why)
    {
        if (!files.Has($"{Libraries}/{name}") && name != "ld-linux-x86-64.so.2")
            PutBinary(files, $"{Libraries}/{name}", Library(packages, name) ?? throw PackagedFiles.Lacks(name, why), packages);
    }

    private static void PutSystem(InitialFiles files, IReadOnlyList<DebianPackage> packages)
    {
        foreach (var folder in (string[])["bin", "sbin", "usr/bin", "usr/sbin", "usr/lib", "lib64", "proc", "sys", "dev", "tmp", "run",
            "root",
            "mnt", "etc/vembar", "var"])
            files.AddFolder(folder);
        files.AddLink("lib", "usr/lib");
        var busybox = PackagedFiles.Find(packages, "bin/busybox", "usr/bin/busybox") ?? throw PackagedFiles.Lacks("busybox",
            "nothing starts without it");
        files.AddFile("bin/busybox", busybox, runs: true);
        foreach (var name in Applets(busybox).Where(n => n is not "busybox"))
            files.AddLink($"bin/{name}", "busybox");
        // The kernel calls it by this path.
        files.AddLink("sbin/modprobe", "../bin/busybox");
        foreach (var name in s_programs)
            PutBinary(files, $"usr/sbin/{name}", PackagedFiles.Find(packages, $"usr/sbin/{name}", $"sbin/{name}", $"usr/bin/{name}",
                $"bin/{name}")
                ?? throw PackagedFiles.Lacks(name, "disks are made with it"), packages);
        foreach (var name in s_opened)
            PutLibrary(files, name, packages, "the program opens it");
        foreach (var library in packages.SelectMany(p => PackagedFiles.LibraryFoldersOf(p.Folder))
            .SelectMany(f => Directory.EnumerateFiles(f, "libntfs-3g.so.*"))
            .Select(Path.GetFileName).Distinct())
            PutLibrary(files, library!, packages, "the program opens it");
        // mcopy opens these for names of files.
        foreach (var folder in packages.SelectMany(p => PackagedFiles.LibraryFoldersOf(p.Folder)).Select(f => Path.Combine(f, "gconv"))
            .Where(Directory.Exists))
        {
            foreach (var name in (string[])["IBM850.so", "ISO8859-1.so", "UTF-16.so", "UNICODE.so", "gconv-modules", "gconv-modules.cache"])
            {
                if (File.Exists(Path.Combine(folder, name)))
                    files.AddFile($"{Libraries}/gconv/{name}", Path.Combine(folder, name));
            }
        }
        files.AddText("etc/passwd", "root:x:0:0::/root:/bin/sh\n");
        files.AddText("etc/group", "root:x:0:\n");
        files.AddText("etc/nsswitch.conf", "hosts: files dns\n");
        files.AddText("etc/hosts", "127.0.0.1 localhost\n::1 localhost\n");
        files.AddText("etc/resolv.conf", "");
    }

    private static string[] Applets(string busybox)
    {
        using var process = HelperProcess.Start(new HelperStart(busybox, ["--list"]));
        var names = process.Output.ReadToEnd().Split('\n', StringSplitOptions.RemoveEmptyEntries);
        process.WaitForExit();
        return names;
    }

    private static void PutProgram(InitialFiles files, string folder, IReadOnlyList<DebianPackage> packages)
    {
        var main = Path.Combine(folder, "vembar");
        if (!File.Exists(main))
            throw VembarException.Environment("no-program", $"there is no program in '{folder}'", "Build it, and use the built one.");
        PutBinary(files, "opt/vembar/vembar", main, packages);
        foreach (var library in Directory.EnumerateFiles(folder, "*.so").Order(StringComparer.Ordinal))
            PutBinary(files, $"opt/vembar/{Path.GetFileName(library)}", library, packages);
        files.AddLink("usr/bin/vembar", "../../opt/vembar/vembar");
    }

    private static void PutModules(InitialFiles files, KernelModules modules, IReadOnlySet<string> chosen)
    {
        var to = $"usr/lib/modules/{modules.Release}";
        foreach (var name in chosen)
            files.AddFile($"{to}/{modules.PathOf(name)}", Path.Combine(modules.Root, modules.PathOf(name)));
        // Of the lists, what is in it alone: a module that is asked for and not there is looked for each time.
        void List(string file, Func<string, bool> isMeant)
        {
            if (File.Exists(Path.Combine(modules.Root, file)))
                files.AddText($"{to}/{file}",
                    string.Concat(File.ReadLines(Path.Combine(modules.Root, file)).Where(isMeant).Select(l => l + "\n")));
        }
        List("modules.dep", l => chosen.Contains(KernelModules.NameOf(l.Split(':')[0])));
        List("modules.alias", l => l.Split(' ') is ["alias", _, var module] && chosen.Contains(KernelModules.NameOf(module)));
        List("modules.symbols", l => l.Split(' ') is ["alias", _, var module] && chosen.Contains(KernelModules.NameOf(module)));
        List("modules.builtin", _ => true);
    }

    private static void PutOwn(InitialFiles files, MakeStarterRequest request, string version)
    {
        files.AddText("init", Resource("init.sh"), runs: true);
        files.AddText("etc/vembar/lease", Resource("lease.sh"), runs: true);
        files.AddText("etc/vembar/carried", Resource("carried.sh"));
        files.AddText("etc/vembar/starter", $"STARTER='{request.Name}'\nSTARTER_VERSION='{version}'\nSTATION='{request.Station}'\n");
        if (request.Authority is { } authority)
            files.AddFile("etc/vembar/authority.pem", authority);
        if (request.Script is { } script)
            files.AddFile("etc/vembar/before", script, runs: true);
        if (request.Tools is { } tools)
            files.AddTree("opt/tools", tools);
        if (request.Firmware is { } firmware)
            files.AddTree("usr/lib/firmware", firmware);
    }

    private static string Resource(string name)
    {
        using var stream = typeof(MakeStarterHandler).Assembly.GetManifestResourceStream($"starter/{name}")!;
        using var reader = new StreamReader(stream);
        return reader.ReadToEnd();
    }

    // One frame: the kernel takes what follows for another archive. The window is as large as the kernel has room for early on.
    private static void Compress(InitialFiles files, string path, CancellationToken cancellation)
    {
        // Level 12 takes twice as long for one part in a hundred.
        const int Level = 9, WindowLog = 24, MostWorkers = 8;
        using var plain = new MemoryStream();
        files.Write(plain, cancellation);
        var from = plain.GetBuffer().AsSpan(0, (int)plain.Length);
        var to = new byte[Zstd.Bound(from.Length)];
        using var zstd = new Zstd();
        var length = zstd.Compress(from, to, new ZstdSettings(Level, WindowLog)
        {
            Workers = Math.Clamp(Environment.ProcessorCount, 1, MostWorkers),
        });
        cancellation.ThrowIfCancellationRequested();
        using var output = File.Create(path);
        output.Write(to.AsSpan(0, length));
    }

    // What modules say in themselves that they may ask for (modinfo's "firmware"): texts in a section of the module's file.
    private static async Task<IReadOnlyDictionary<string, IReadOnlyList<string>>> FirmwareOfAsync(KernelModules modules,
        IReadOnlySet<string> chosen, CancellationToken cancellation)
    {
        var all = new SortedDictionary<string, IReadOnlyList<string>>(StringComparer.Ordinal);
        foreach (var name in chosen.Where(n => modules.PathOf(n).EndsWith(".ko", StringComparison.Ordinal)))
        {
            var bytes = await File.ReadAllBytesAsync(Path.Combine(modules.Root, modules.PathOf(name)), cancellation).ConfigureAwait(false);
            var files = new SortedSet<string>(StringComparer.Ordinal);
            for (var at = 0; bytes.AsSpan(at).IndexOf("\0firmware="u8) is >= 0 and var found;)
            {
                at += found + "\0firmware=".Length;
                var end = bytes.AsSpan(at).IndexOf((byte)0);
                if (end is > 0 and < 200)
                    files.Add(System.Text.Encoding.UTF8.GetString(bytes, at, end));
            }
            if (files.Count > 0)
                all[name] = [.. files];
        }
        return all;
    }

    // As Debian signed them, under the names that they look for each other by.
    private static string[] PutLoaders(string folder, IReadOnlyList<DebianPackage> packages)
    {
        (string Name, string[] Places)[] loaders =
        [
            ("undionly.kpxe", ["usr/lib/ipxe/undionly.kpxe"]), ("ipxe.efi", ["boot/ipxe.efi", "usr/lib/ipxe/ipxe.efi"]),
            ("shimx64.efi", ["usr/lib/shim/shimx64.efi.signed"]), ("mmx64.efi", ["usr/lib/shim/mmx64.efi.signed"]),
            ("grubx64.efi", ["usr/lib/grub/x86_64-efi-signed/grubnetx64.efi.signed"]),
        ];
        foreach (var (name, places) in loaders)
            File.Copy(PackagedFiles.Find(packages, places) ?? throw PackagedFiles.Lacks(name, "machines start from the network by it"),
                Path.Combine(folder, name));
        return [.. loaders.Select(l => l.Name)];
    }
}
