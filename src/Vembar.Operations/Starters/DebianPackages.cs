using Vembar.Common;
using Vembar.Native;
using Vembar.Native.Helpers;

namespace Vembar.Operations.Starters;

/// <summary>Gets packages of Debian by apt, and unpacks them into a folder; nothing is installed. What was gotten once is used
/// again.</summary>
/// <param name="cache">Where packages and their files are kept.</param>
internal sealed class DebianPackages(string cache)
{
    /// <summary>Gets packages with the libraries that they need.</summary>
    /// <param name="names">The packages.</param>
    /// <param name="report">Told which one is being gotten.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <exception cref="VembarException">apt does not know one, or cannot get it.</exception>
    public async Task<IReadOnlyList<DebianPackage>> GetAsync(IReadOnlyList<string> names, Action<string> report,
        CancellationToken cancellation)
    {
        var known = await RunAsync("apt-cache",
            ["depends", "--recurse", "--no-recommends", "--no-suggests", "--no-conflicts", "--no-breaks",
            "--no-replaces", "--no-enhances", .. names], cancellation).ConfigureAwait(false);
        // Beside what was asked for, libraries: programs that are only needed to install something do not run.
        var wanted = known.Split('\n').Where(l => l.Length > 0 && l[0] is not (' ' or '<'))
            .Where(n => names.Contains(n) || n.StartsWith("lib", StringComparison.Ordinal)).Distinct().Order(StringComparer.Ordinal)
                .ToList();
        if (names.FirstOrDefault(n => !wanted.Contains(n)) is { } missing)
            throw Unknown(missing);
        var shown = await RunAsync("apt-cache", ["show", "--no-all-versions", .. wanted], cancellation).ConfigureAwait(false);
        var packages = new List<DebianPackage>();
        foreach (var paragraph in shown.Split("\n\n", StringSplitOptions.RemoveEmptyEntries))
        {
            var fields = paragraph.Split('\n').Where(l => l.Length > 0 && l[0] != ' ').Select(l => l.Split(": ", 2))
                .Where(f => f.Length == 2)
                .GroupBy(f => f[0]).ToDictionary(g => g.Key, g => g.First()[1]);
            if (!fields.TryGetValue("Package", out var name) || !fields.TryGetValue("SHA256", out var hash))
                continue;
            var version = fields.GetValueOrDefault("Version", "");
            report($"{name} {version}");
            packages.Add(new DebianPackage(name, version, hash,
                await UnpackedAsync(name, version, hash, cancellation).ConfigureAwait(false)));
        }
        if (names.FirstOrDefault(n => packages.All(p => p.Name != n)) is { } lacking)
            throw Unknown(lacking);
        return packages;
    }

    /// <summary>What a package that stands for the newest of its kind depends on: of "linux-image-amd64" the kernel itself.</summary>
    /// <param name="name">The package.</param>
    /// <param name="prefix">How what is looked for begins.</param>
    /// <param name="cancellation">Ends it.</param>
    public static async Task<string?> NewestAsync(string name, string prefix, CancellationToken cancellation) =>
        (await RunAsync("apt-cache", ["depends", "--important", name], cancellation).ConfigureAwait(false)).Split('\n')
        .Select(l => l.Trim()).Where(l => l.StartsWith("Depends: ", StringComparison.Ordinal)).Select(l => l["Depends: ".Length..])
        .FirstOrDefault(n => n.StartsWith(prefix, StringComparison.Ordinal));

    private static VembarException Unknown(string name) => VembarException.Environment("no-such-package",
        $"apt does not know the package '{name}'", "Run `apt-get update`, or name another package.");

    private async Task<string> UnpackedAsync(string name, string version, string hash, CancellationToken cancellation)
    {
        var folder = Path.Combine(cache, "unpacked", $"{name}-{hash[..16]}");
        if (Directory.Exists(folder))
            return folder;
        var debs = Directory.CreateDirectory(Path.Combine(cache, "debs")).FullName;
        var deb = Path.Combine(debs, $"{name}-{hash[..16]}.deb");
        if (!File.Exists(deb) || await HashAsync(deb, cancellation).ConfigureAwait(false) != hash)
        {
            var scratch = Directory.CreateDirectory(Path.Combine(debs, $"getting-{Guid.NewGuid():N}")).FullName;
            try
            {
                await RunAsync("apt-get", ["download", "-q", $"{name}={version}"], cancellation, scratch).ConfigureAwait(false);
                var file = Directory.EnumerateFiles(scratch, "*.deb").FirstOrDefault();
                if (file is null || await HashAsync(file, cancellation).ConfigureAwait(false) != hash)
                    throw VembarException.Environment("bad-package", $"what apt got for '{name}' is not what its list says",
                        "Run `apt-get update`, and try again.");
                File.Move(file, deb, overwrite: true);
            }
            finally
            {
                Directory.Delete(scratch, recursive: true);
            }
        }
        var unpacking = $"{folder}.{Guid.NewGuid():N}";
        Directory.CreateDirectory(unpacking);
        try
        {
            await RunAsync("dpkg-deb", ["-x", deb, unpacking], cancellation).ConfigureAwait(false);
            Directory.Move(unpacking, folder);
        }
        catch (IOException) when (Directory.Exists(folder))
        {
            // Another run was quicker.
            Directory.Delete(unpacking, recursive: true);
        }
        return folder;
    }

    private static async Task<string> HashAsync(string path, CancellationToken cancellation) =>
        (await StarterFile.ReadAsync(Path.GetDirectoryName(path)!, Path.GetFileName(path), cancellation).ConfigureAwait(false)).Sha256;

    /// <summary>Runs a program of the system.</summary>
    /// <returns>What it printed.</returns>
    /// <exception cref="VembarException">It is not there, or failed.</exception>
    internal static async Task<string> RunAsync(string program, IReadOnlyList<string> arguments, CancellationToken cancellation,
        string? folder = null, IReadOnlyDictionary<string, string>? environment = null)
    {
        HelperProcess process;
        try
        {
            process = HelperProcess.Start(new HelperStart(HelperProcess.Find(program) ?? program, arguments)
            {
                Folder = folder ?? "",
                Environment = new Dictionary<string, string>(environment ?? new Dictionary<string, string>()) { ["LC_ALL"] = "C" },
            });
        }
        catch (NativeException)
        {
            throw VembarException.Environment("program-missing", $"the program '{program}' is not there",
                "Starters are made of Debian's packages: do it on Debian or Ubuntu.");
        }
        using (process)
        {
            var error = process.Error.ReadToEndAsync(cancellation);
            try
            {
                var output = await process.Output.ReadToEndAsync(cancellation).ConfigureAwait(false);
                await process.WaitForExitAsync(cancellation).ConfigureAwait(false);
                if (process.ExitCode == 0)
                    return output;
                var lines = (await error.ConfigureAwait(false)).Split('\n', StringSplitOptions.RemoveEmptyEntries);
                var isApt = program.StartsWith("apt", StringComparison.Ordinal);
                var said = isApt ? lines.FirstOrDefault(l => l.StartsWith("E:", StringComparison.Ordinal))?[2..] : lines.LastOrDefault();
                throw VembarException.Environment("program-failed", $"`{Path.GetFileName(program)} {arguments[0]}` ended with "
                    + $"{process.ExitCode}{(said is null ? "" : $": {said.Trim()}")}",
                    isApt ? "Run `apt-get update`, and see whether its servers answer." : "See whether there is room, and try again.");
            }
            catch (OperationCanceledException)
            {
                process.Kill();
                throw;
            }
        }
    }
}
