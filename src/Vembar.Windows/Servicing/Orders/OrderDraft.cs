using System.Text;
using Vembar.Common;
using Vembar.Common.Files;
using Vembar.Images.Records;
using Vembar.Windows.Servicing.Answers;
using Vembar.Windows.Servicing.Drivers;
using Vembar.Windows.Servicing.Files;
using Vembar.Windows.Servicing.Folders;
using Vembar.Windows.Servicing.Packages;
using Vembar.Windows.Servicing.Registry;

namespace Vembar.Windows.Servicing.Orders;

/// <summary>A work order to start from: of what folders hold, or of what an image's history did. It is text, to be read through.</summary>
public sealed class OrderDraft
{
    private const int MostFiles = 50_000, LongestYaml = 1 << 20;

    private readonly string _folder;
    private readonly string _title;
    private readonly List<string> _trust = [];
    private readonly List<string> _models = [];
    private readonly List<string> _changes = [];

    private OrderDraft(string title, string folder)
    {
        _title = title;
        _folder = folder;
    }

    /// <summary>The text: an order that <see cref="WorkOrder.Read"/> takes, with remarks.</summary>
    public string Text { get; private set; } = "";

    /// <summary>How many changes it lists.</summary>
    public int Changes { get; private set; }

    /// <summary>How many further ones stand in it as remarks.</summary>
    public int Remarks { get; private set; }

    /// <summary>Makes an order of what folders hold: drivers, packages, answer files, .reg files, rules, hardware profiles,
    /// certificates.</summary>
    /// <param name="paths">Folders.</param>
    /// <param name="folder">The folder that the order will be in: paths in it are relative to that.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <exception cref="VembarException">A folder is not there, or holds nothing of it.</exception>
    public static OrderDraft OfFolders(IReadOnlyList<string> paths, string folder, CancellationToken cancellation)
    {
        var draft = new OrderDraft($"What is in {string.Join(", ", paths)}", folder);
        var found = new FolderFinds();
        foreach (var path in paths)
        {
            if (!Directory.Exists(path))
                throw VembarException.Input("no-such-folder", $"there is no folder '{path}'",
                    "Name folders that hold drivers, packages, answer files and the like, or an image.");
            found.Begin();
            foreach (var file in Below(path, cancellation))
                found.Look(path, file, cancellation);
            found.End(path);
        }
        draft.Write(found);
        if (draft._changes.Count == 0)
            throw VembarException.Input("nothing-found",
                $"{string.Join(", ", paths.Select(p => $"'{p}'"))} holds no drivers, packages, answer files, .reg files or rules",
                "Name the folders that hold them.");
        draft.Finish("every change is one item; take out what is not meant");
        return draft;
    }

    /// <summary>Makes an order of what servicing did to an image, by its history.</summary>
    /// <param name="image">The image.</param>
    /// <param name="folder">The folder that the order will be in: paths in it are relative to that.</param>
    /// <exception cref="VembarException">Its history holds no servicing.</exception>
    public static OrderDraft OfImage(ImageRecord image, string folder)
    {
        var draft = new OrderDraft(image.Name, folder);
        var seen = new HashSet<string>(StringComparer.Ordinal);
        foreach (var entry in image.History.Where(h => h.Action == "service"))
        {
            var title = entry.Order is { Title.Length: > 0 } titled ? $" ({titled.Title})" : "";
            var by = entry.Order is { } order ? $", by {order.File}{title}" : "";
            draft.Remark($"{entry.Time:yyyy-MM-dd}{by}");
            foreach (var detail in entry.Details)
            {
                if (DoneChange.Parse(detail) is { } done && seen.Add($"{done.Kind} {done.What}"))
                    draft.Add(done);
            }
        }
        if (draft.Changes + draft.Remarks == 0)
            throw VembarException.Input("nothing-found", $"the history of '{image.Name}' holds no change that an order could make",
                "Name folders that hold drivers, packages and the like.");
        draft.Finish("what the history does not say stands in remarks");
        return draft;
    }

    // What an install of Windows holds is its own.
    private static List<string> Below(string path, CancellationToken cancellation)
    {
        var files = new List<string>();
        var pending = new Stack<string>([path]);
        try
        {
            while (pending.TryPop(out var at))
            {
                cancellation.ThrowIfCancellationRequested();
                if (Directory.Exists(Path.Combine(at, "Windows", "System32", "config")))
                    continue;
                files.AddRange(Directory.EnumerateFiles(at));
                if (files.Count > MostFiles)
                    throw VembarException.Input("too-many-files", $"'{path}' holds more than {MostFiles} files",
                        "Name the folders in it that hold drivers, packages and the like.");
                foreach (var folder in Directory.EnumerateDirectories(at).Where(f => new DirectoryInfo(f).LinkTarget is null))
                    pending.Push(folder);
            }
        }
        catch (Exception failure) when (failure is not VembarException && VembarException.From(failure, "look into", path) is { } error)
        {
            throw error;
        }
        files.Sort(StringComparer.Ordinal);
        return files;
    }

    private void Write(FolderFinds found)
    {
        _trust.AddRange(found.Certificates.Select(c => Path.GetDirectoryName(c)!).Distinct());
        _models.AddRange(found.Models);
        foreach (var place in found.DriverFolders)
            Change("driver", place);
        foreach (var versions in found.Packages.GroupBy(p => p.Package.Manifest.Name, StringComparer.OrdinalIgnoreCase))
        {
            var newest = versions.MaxBy(v => v.Package.Manifest.Version);
            Change("package", newest.Path);
            foreach (var (path, package) in versions.Where(v => v.Path != newest.Path))
                Remark($"older, or the same again ({PackageManifest.Show(package.Manifest.Version)}):", Line("package", Relative(path)));
        }
        foreach (var path in found.UnmadePackages)
            Remark("lists no hashes; 'vembar package make' makes a package of it:", Line("package", Relative(path)));
        for (var i = 0; i < found.Answers.Count; i++)
        {
            if (i == 0)
                Change("answers", found.Answers[i]);
            else
                Remark("an image has one answer file; this would take its place:", Line("answers", Relative(found.Answers[i])));
        }
        foreach (var path in found.Registry)
            Change("registry", path);
        foreach (var path in found.Rules)
            Change("ballast", path);
    }

    private void Add(DoneChange done)
    {
        var kind = OrderKind.All.FirstOrDefault(k => k.Name == done.Kind);
        if (kind is null)
            return;
        switch (done.Kind)
        {
            case "put":
                Remark("from where, the history does not say:", "- put: FILE", Line("to", done.What, "  "));
                break;
            case "ballast":
                Remark("by which file of rules, the history does not say:", "- ballast: FILE", Line("rules", done.What, "  "));
                break;
            case "feature" when done.What.Split('=') is [var feature, var state]:
                Item(state == "off" ? [Line("feature", feature), "  state: off"] : [Line("feature", feature)]);
                break;
            case "locale" when done.What.Split(" (", 2) is [var locale, var parts]:
                Item([Line("locale", locale), Line("parts", $"[{parts.TrimEnd(')')}]", "  ", isPlain: true)]);
                break;
            case var _ when kind.Form == OrderForm.File:
                if (Outermost(done.What) is { } there)
                    Change(done.Kind, there);
                else
                    Remark("not here any more:", Line(done.Kind, done.What));
                break;
            default:
                Item([Line(done.Kind, done.What)]);
                break;
        }
    }

    // The file or folder that a path is of: what is in a packed file is named by that.
    private static string? Outermost(string path)
    {
        for (var at = path; at.Length > 0; at = Path.GetDirectoryName(at) ?? "")
        {
            if (File.Exists(at) || (at == path && Directory.Exists(at)))
                return at;
        }
        return null;
    }

    private void Change(string kind, string path) => Item([Line(kind, Relative(path))]);

    private void Item(IReadOnlyList<string> lines)
    {
        // Several packages of one packed file are one change.
        if (_changes.Contains($"  {lines[0]}") && lines.Count == 1)
            return;
        _changes.AddRange(lines.Select(l => $"  {l}"));
        Changes++;
    }

    private void Remark(string text, params IReadOnlyList<string> lines)
    {
        _changes.Add($"  # {Plain(text)}");
        _changes.AddRange(lines.Select(l => $"  # {l}"));
        Remarks += lines.Count > 0 ? 1 : 0;
    }

    private static string Line(string key, string value, string indent = "- ", bool isPlain = false) =>
        $"{indent}{key}: {(isPlain ? value : Quoted(value))}";

    private static string Plain(string text) => string.Concat(text.Select(c => char.IsControl(c) ? ' ' : c));

    // As YAML has it: plain where nothing in it means anything, else in quotes. A variable's mark stands for itself.
    private static string Quoted(string text)
    {
        text = Plain(text).Replace("${", "$${", StringComparison.Ordinal);
        var isPlain = text.Length > 0 && (char.IsLetterOrDigit(text[0]) || text[0] is '.' or '/')
            && text.All(c => char.IsLetterOrDigit(c) || c is '/' or '.' or '-' or '_' or ' ' or '(' or ')' or '+') && text[^1] != ' ';
        return isPlain ? text : $"'{text.Replace("'", "''", StringComparison.Ordinal)}'";
    }

    private string Relative(string path) =>
        Path.GetRelativePath(_folder, Path.GetFullPath(path)) is var relative && relative.Length <= Path.GetFullPath(path).Length + 12
        ? relative : Path.GetFullPath(path);

    private void Finish(string hint)
    {
        var text = new StringBuilder();
        text.Append("# A work order; its form: docs/work-order.md, or 'vembar order schema'.\n");
        text.Append("# Read it through: ").Append(hint).Append(".\n");
        text.Append("title: ").Append(Quoted(_title)).Append('\n');
        foreach (var (key, values) in ((string, List<string>)[])[("trust", _trust), ("for", _models)])
        {
            if (values.Count == 0)
                continue;
            text.Append(key == "trust" ? "# Whose signatures count.\n"
                : "# The models: only drivers that their devices would get go in.\n");
            text.Append(key).Append(":\n");
            foreach (var value in values)
                text.Append("  - ").Append(Quoted(Relative(value))).Append('\n');
        }
        text.Append(Changes > 0 ? "changes:\n" : "# changes:\n");
        foreach (var line in _changes)
            text.Append(line).Append('\n');
        Text = text.ToString();
    }

    /// <summary>What is found in folders, by kind.</summary>
    private sealed class FolderFinds
    {
        private static readonly string[] s_certificates = [".cer", ".crt", ".pem", ".der"];

        private int _before;
        private int _driversBefore;

        public List<string> DriverFolders { get; } = [];

        private int Others =>
            Packages.Count + UnmadePackages.Count + Answers.Count + Registry.Count + Rules.Count + Models.Count + Certificates.Count;

        public void Begin() => (_before, _driversBefore) = (Others, DriverFolders.Count);

        // A folder of drivers alone is named itself, so that what is added there later goes in too.
        public void End(string root)
        {
            if (Others != _before || DriverFolders.Count == _driversBefore)
                return;
            DriverFolders.RemoveRange(_driversBefore, DriverFolders.Count - _driversBefore);
            DriverFolders.Add(root);
        }

        public List<(string Path, Package Package)> Packages { get; } = [];

        public List<string> UnmadePackages { get; } = [];

        public List<string> Answers { get; } = [];

        public List<string> Registry { get; } = [];

        public List<string> Rules { get; } = [];

        public List<string> Models { get; } = [];

        public List<string> Certificates { get; } = [];

        public void Look(string root, string file, CancellationToken cancellation)
        {
            cancellation.ThrowIfCancellationRequested();
            try
            {
                Sort(root, file, Path.GetExtension(file).ToLowerInvariant(), cancellation);
            }
            catch (VembarException problem) when (problem.Kind is ErrorKind.Input or ErrorKind.Environment or ErrorKind.Usage)
            {
                // Not what its name looks like.
            }
            catch (IOException)
            {
                // A pipe, or gone.
            }
        }

        private void Sort(string root, string file, string ending, CancellationToken cancellation)
        {
            // What is in a package's folder is the package's.
            if (Packages.Exists(p => file.StartsWith(p.Path + "/", StringComparison.Ordinal))
                || UnmadePackages.Exists(p => file.StartsWith(p + "/", StringComparison.Ordinal)))
                return;
            var name = Path.GetFileName(file);
            if (FolderWithManifest(root, file) is { } package)
                AddPackage(package);
            else if (ending == ".inf")
                AddDriver(root, file);
            else if (PackedFile.IsNamed(file))
            {
                var packed = PackedFile.Open(file, cancellation);
                if (packed.Files.ContainsKey(PackageManifest.FileName))
                    AddPackage(file);
                else if (packed.Files.Keys.Any(k => k.EndsWith(".inf", StringComparison.OrdinalIgnoreCase)))
                    AddDriver(root, file);
            }
            else if (ending == ".reg" && RegFile.Parse(InputFile.ReadAllBytes(file), name, cancellation: cancellation).Count >= 0)
                Registry.Add(file);
            else if (ending == ".xml" && AnswerFile.Parse(InputFile.ReadAllBytes(file), name).IsAnswerFile)
                Answers.Add(file);
            else if (s_certificates.Contains(ending) && DriverTrust.Load([file]) is not null)
                Certificates.Add(file);
            else if (ending is ".yaml" or ".yml" && new FileInfo(file).Length <= LongestYaml)
                SortYaml(file);
        }

        private void SortYaml(string file)
        {
            if (Is(() => HardwareProfile.Read(file)))
                Models.Add(file);
            else if (Is(() => BallastRule.Read(file)))
                Rules.Add(file);
            else if (Is(() => AnswerProfile.Make(file)))
                Answers.Add(file);
        }

        private static bool Is(Func<object> read)
        {
            try
            {
                return read() is not null;
            }
            catch (VembarException)
            {
                return false;
            }
        }

        private static string? FolderWithManifest(string root, string file)
        {
            for (var at = Path.GetDirectoryName(file)!; at.Length >= root.Length; at = Path.GetDirectoryName(at) ?? "")
            {
                if (File.Exists(Path.Combine(at, PackageManifest.FileName)))
                    return at;
                if (at == root)
                    return null;
            }
            return null;
        }

        private void AddPackage(string path)
        {
            if (Packages.Exists(p => p.Path == path) || UnmadePackages.Contains(path))
                return;
            var package = Package.Read(path);
            if (package.Manifest.Hashes.Count > 0)
                Packages.Add((path, package));
            // A folder beside the package that was made of it.
            else if (!File.Exists(path + ".zip"))
                UnmadePackages.Add(path);
            else
                Packages.Add((path + ".zip", Package.Read(path + ".zip")));
        }

        // The folder below the one that was named.
        private void AddDriver(string root, string file)
        {
            var below = Path.GetRelativePath(root, file).Split('/');
            var place = below.Length > 1 ? Path.Combine(root, below[0]) : root;
            if (!DriverFolders.Contains(place) && !DriverFolders.Contains(root))
                DriverFolders.Add(place);
        }
    }
}
