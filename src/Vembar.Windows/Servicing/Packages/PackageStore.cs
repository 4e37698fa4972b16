using Vembar.Images.Editing;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Store.Hashing;
using Vembar.Windows.Registry;
using Vembar.Windows.Servicing.FirstStart;
using Vembar.Windows.Servicing.Folders;
using Vembar.Windows.Servicing.Registry;

namespace Vembar.Windows.Servicing.Packages;

/// <summary>The packages of an image that is serviced: put in with a journal of every step, and taken out by it.</summary>
internal sealed class PackageStore
{
    private readonly ServiceContext _context;
    private readonly WindowsPath _windows;
    private readonly List<InstalledPackage> _installed;
    private readonly Dictionary<InstalledPackage, int> _saved = [];

    public PackageStore(ServiceContext context)
    {
        _context = context;
        _windows = context.Windows("");
        _installed = [.. InstalledPackage.Read(context.Tree, _windows)];
    }

    /// <summary>The packages in use.</summary>
    public IReadOnlyList<InstalledPackage> InUse =>
        _installed.FindAll(p => p.ReplacedBy is null
        && !_installed.Exists(o => o.State.Replaced.Contains(p.Title, StringComparer.OrdinalIgnoreCase)));

    /// <summary>All packages, also those whose place others took.</summary>
    public IReadOnlyList<InstalledPackage> All => _installed;

    public InstalledPackage? Find(string name) =>
        InUse.FirstOrDefault(p => p.Manifest.Name.Equals(name, StringComparison.OrdinalIgnoreCase));

    /// <summary>Those whose place a package takes: older versions of itself, and those that it says.</summary>
    public IReadOnlyList<InstalledPackage> ReplacedBy(PackageManifest manifest) =>
        [.. InUse.Where(p => p.Manifest.Name.Equals(manifest.Name, StringComparison.OrdinalIgnoreCase)
        || manifest.Replaces.Contains(p.Manifest.Name, StringComparer.OrdinalIgnoreCase))];

    private static IEnumerable<PackagePart> PartsOf(InstalledPackage package) =>
        package.Features.Where(f => f.IsOn).Select(f => f.Feature.Part).Prepend(package.Manifest.Part);

    /// <summary>Why a package cannot go in beside those that are there; null when it can.</summary>
    public string? Conflict(Package package)
    {
        var replaced = ReplacedBy(package.Manifest);
        var others = InUse.Except(replaced).ToList();
        var manifest = package.Manifest;
        if (others.Find(o => manifest.Conflicts.Contains(o.Manifest.Name, StringComparer.OrdinalIgnoreCase)
            || o.Manifest.Conflicts.Contains(manifest.Name, StringComparer.OrdinalIgnoreCase)) is { } rival)
            return $"it cannot be beside {rival.Title}";
        var mine = manifest.Laid(package.Parts).ToLookup(l => l.To.Replace('\\', '/'), StringComparer.OrdinalIgnoreCase);
        foreach (var other in others)
        {
            if (other.Manifest.Laid(PartsOf(other)).FirstOrDefault(l => mine[l.To].Any(m => m.Hash != l.Hash)) is { To: { } path })
                return $"'{path}' is brought by {other.Title} with other content";
        }
        if (manifest.Features.Select(f => f.Name)
            .FirstOrDefault(
                f => others.Exists(o => o.Manifest.Features.Any(g => g.Name.Equals(f, StringComparison.OrdinalIgnoreCase)))) is { } twice)
            return $"the feature '{twice}' is brought by another package too";
        var records = _windows.Append(WindowsPath.Parse(InstalledPackage.RecordsPath)).Parent;
        foreach (var to in mine.Select(l => l.Key))
        {
            if (WindowsPath.Parse(to).Parts.Take(records.Parts.Count).SequenceEqual(records.Parts, StringComparer.OrdinalIgnoreCase))
                return $"'{to}' is in '{records}', where the journals of packages are";
            if (_context.Tree.Find(WindowsPath.Parse(to)) is { Entry.Kind: EntryKind.Folder })
                return $"'{to}' is a folder in the image, a file was to be put there";
        }
        var regs = package.Parts.SelectMany(p => p.Registry)
            .SelectMany(r => RegFile.Parse(package.Folder.Read(r, RegFile.Longest), r, RegistryChange.CurrentSet(_context)));
        return RegistryChange.Missing(_context, regs);
    }

    /// <summary>Files that are there, of no package, and that a package takes the place of: hives, and what lies in the Windows
    /// folder.</summary>
    public IReadOnlyList<string> OfWindows(Package package)
    {
        var own = _installed.SelectMany(i => i.Manifest.Laid(PartsOf(i))).Select(l => l.To).ToHashSet(StringComparer.OrdinalIgnoreCase);
        return [.. package.Manifest.Laid([package.Manifest.Part, .. package.Manifest.Features.Where(f => f.IsOn).Select(f => f.Part)])
            .Where(l => !own.Contains(l.To) && WindowsPath.Parse(l.To) is var path
                && (IsHive(path) || path.Parts[0].Equals(_windows.Name, StringComparison.OrdinalIgnoreCase))
                && _context.Tree.Find(path)?.Entry is { Kind: EntryKind.File } there && there.Content?.Hash != l.Hash).Select(l => l.To)];
    }

    /// <summary>Whether a file is a hive: those of the system and of users.</summary>
    public static bool IsHive(WindowsPath path) =>
        path.Parts is [_, var system, var config, _] && system.Equals("System32", StringComparison.OrdinalIgnoreCase)
        && config.Equals("config", StringComparison.OrdinalIgnoreCase)
        || path.Name.ToUpperInvariant() is "NTUSER.DAT" or "USRCLASS.DAT";

    /// <summary>Puts a package in.</summary>
    public void Add(Package package)
    {
        var installed = InstalledPackage.New(_windows, package.Manifest);
        var replaced = ReplacedBy(package.Manifest);
        var on = package.Manifest.Features.Where(f => f.IsOn
            || replaced.Any(r => r.Features.Any(g => g.IsOn && g.Feature.Name.Equals(f.Name, StringComparison.OrdinalIgnoreCase))))
            .ToList();
        // A feature that is on has its parents on.
        for (var i = 0; i < on.Count; i++)
        {
            if (package.Manifest.Features.FirstOrDefault(f => f.Name.Equals(on[i].Parent,
                StringComparison.OrdinalIgnoreCase)) is { } parent && !on.Contains(parent))
                on.Add(parent);
        }
        var journal = new List<JournalStep>();
        var hives = new List<StoredHive>();
        var keeps = package.Manifest.Laid(on.Select(f => f.Part).Prepend(package.Manifest.Part)).Select(l => l.To.Replace('\\', '/'))
            .ToHashSet(StringComparer.OrdinalIgnoreCase);
        foreach (var old in replaced.SelectMany(r => r.Manifest.Laid(PartsOf(r))).Where(l => !keeps.Contains(l.To.Replace('\\', '/'))))
            TakeAway(installed, WindowsPath.Parse(old.To), journal);
        Make(installed, package.Manifest.Part, package.Manifest, package.Folder, journal, hives);
        var features = new Dictionary<string, IReadOnlyList<JournalStep>>();
        foreach (var feature in on)
        {
            var steps = new List<JournalStep>();
            Make(installed, feature.Part, package.Manifest, package.Folder, steps, hives);
            features[feature.Name] = steps;
        }
        // What features bring stays at hand, so that they can be switched later.
        foreach (var part in package.Manifest.Features.Select(f => f.Part))
        {
            foreach (var file in package.Manifest.Laid([part]).Select(l => l.From).Concat(part.Registry)
                .Distinct(StringComparer.OrdinalIgnoreCase))
                _context.Tree.PutFile(Payload(installed, file), package.Folder.Content(file));
        }
        var bytes = System.Text.Encoding.UTF8.GetBytes(package.Text);
        _context.Tree.PutFile(installed.Record.Child(PackageManifest.FileName), new NewContent(bytes, null, bytes.Length));
        installed.State = new PackageState
        {
            Steps = journal,
            Features = features,
            Replaced = [.. replaced.Select(r => r.Title)],
            Hives = hives,
        };
        installed.Save(_context.Tree);
        _installed.Add(installed);
    }

    /// <summary>Takes what replaced packages left out of the image: those that took their place keep what they need to be taken out
    /// themselves.</summary>
    /// <returns>What was forgotten, "name version".</returns>
    public IReadOnlyList<string> ForgetReplaced()
    {
        var forgotten = new List<string>();
        foreach (var package in InUse.ToList())
        {
            // The oldest first, so that each hands on what it got.
            while (_installed.Find(o => package.State.Replaced.Contains(o.Title, StringComparer.OrdinalIgnoreCase)) is { } older)
            {
                while (_installed.Find(o => older.State.Replaced.Contains(o.Title, StringComparer.OrdinalIgnoreCase)) is { } oldest)
                    older = oldest;
                var heir = _installed.First(o => o.State.Replaced.Contains(older.Title, StringComparer.OrdinalIgnoreCase));
                HandOn(older, heir);
                forgotten.Add(older.Title);
            }
        }
        return forgotten;
    }

    // The newer package is taken out as if both were one: what the older one had changed first is what comes back last.
    private void HandOn(InstalledPackage older, InstalledPackage newer)
    {
        var theirs = older.State.Features.Values.Aggregate(older.State.Steps, (all, steps) => [.. all, .. steps]);
        var own = theirs.Where(s => s.Kind is "added" or "replaced").Select(s => s.Path).ToHashSet(StringComparer.OrdinalIgnoreCase);
        IReadOnlyList<JournalStep> Without(IReadOnlyList<JournalStep> steps)
        {
            var kept = new List<JournalStep>();
            foreach (var step in steps)
            {
                if (step.Kind is not ("replaced" or "removed") || !own.Contains(step.Path))
                    kept.Add(step);
                else if (_context.Tree.Find(newer.Record.Append(WindowsPath.Parse(step.Saved))) is { } saved)
                    _context.Tree.Remove(saved);
            }
            return kept;
        }
        var steps = Without(newer.State.Steps);
        var features = newer.State.Features.ToDictionary(f => f.Key, f => Without(f.Value));
        var handed = new List<JournalStep>();
        foreach (var step in theirs)
        {
            if (step.Saved.Length == 0 || _context.Tree.Find(older.Record.Append(WindowsPath.Parse(step.Saved))) is not { } saved)
            {
                handed.Add(step);
                continue;
            }
            var place = NextSaved(newer);
            _context.Tree.Move(saved, newer.Record.Append(WindowsPath.Parse(place)));
            handed.Add(step with { Saved = place });
        }
        newer.State = newer.State with
        {
            Steps = [.. handed, .. steps],
            Features = features,
            Replaced = [.. older.State.Replaced,
            .. newer.State.Replaced.Where(r => !r.Equals(older.Title, StringComparison.OrdinalIgnoreCase))],
            Hives = [.. older.State.Hives, .. newer.State.Hives.Where(h => !older.State.Hives.Any(o => o.Hive == h.Hive))],
        };
        newer.Save(_context.Tree);
        if (_context.Tree.Find(older.Record) is { } record)
            _context.Tree.Remove(record);
        RemoveEmpty(older.Record.Parent);
        _installed.Remove(older);
    }

    private static WindowsPath Payload(InstalledPackage installed, string file) =>
        file.Split('/').Aggregate(installed.Record.Child("payload"), (at, part) => at.Child(part));

    /// <summary>Takes a package out; what it replaced is back.</summary>
    public void Remove(InstalledPackage package)
    {
        foreach (var steps in package.State.Features.Values.Reverse())
            Undo(package, steps);
        Undo(package, package.State.Steps);
        foreach (var hive in package.State.Hives)
            _context.AddRevertCandidate(hive.Hive, hive.Content, hive.Modified);
        if (_context.Tree.Find(package.Record) is { } record)
            _context.Tree.Remove(record);
        foreach (var folder in (WindowsPath[])[package.Record.Parent, package.Record.Parent.Parent, package.Record.Parent.Parent.Parent])
            RemoveEmpty(folder);
        _installed.Remove(package);
    }

    /// <summary>Switches a feature; its parents and dependents are the caller's.</summary>
    public void Switch(InstalledPackage package, PackageFeature feature, bool on)
    {
        var features = package.State.Features.ToDictionary();
        var hives = package.State.Hives.ToList();
        if (on)
        {
            var steps = new List<JournalStep>();
            Make(package, feature.Part, package.Manifest, new StoredPackageFolder(_context.Tree, package.Record.Child("payload")), steps,
                hives);
            features[feature.Name] = steps;
        }
        else if (features.Remove(feature.Name, out var steps))
        {
            Undo(package, steps);
            foreach (var hive in hives)
                _context.AddRevertCandidate(hive.Hive, hive.Content, hive.Modified);
        }
        package.State = package.State with { Features = features, Hives = hives };
        package.Save(_context.Tree);
    }

    private void Make(InstalledPackage installed, PackagePart part, PackageManifest manifest, IPackageFolder folder,
        List<JournalStep> journal, List<StoredHive> hives)
    {
        foreach (var pattern in part.Remove)
        {
            foreach (var path in Matching(pattern))
                TakeAway(installed, path, journal);
        }
        foreach (var files in part.Files)
        {
            foreach (var (from, to, hash) in manifest.Laid([new PackagePart { Files = [files] }]))
                Lay(installed, folder, from, WindowsPath.Parse(to), hash, files, journal);
        }
        var edits = part.Registry.SelectMany(r => RegFile.Parse(folder.Read(r, RegFile.Longest), r, RegistryChange.CurrentSet(_context)))
            .Select(l => l.Edit)
            .Concat(part.System.Select(s => s with { Subkey = $@"{RegistryChange.CurrentSet(_context)}\{s.Subkey}" }));
        var undo = new List<RegistryEdit>();
        foreach (var edit in edits)
        {
            var hive = _context.Hive(edit.Root)!;
            if (edit.IsMade(hive.Root))
                continue;
            if (!hives.Exists(h => h.Hive == edit.Root) && _context.Stored(edit.Root) is { } stored)
                hives.Add(StoredHive.Of(edit.Root, stored.Content, stored.Modified));
            undo.InsertRange(0, edit.Undo(hive.Root));
            edit.Apply(hive.Root);
            _context.MarkModified(edit.Root);
        }
        if (undo.Count > 0)
            journal.Add(new JournalStep { Kind = "registry", Undo = undo });
        foreach (var command in part.FirstStart)
        {
            var script = FirstStartScript.Read(_context.Tree, _windows);
            if (!script.Set(command))
                continue;
            MakeFolders(FirstStartScript.PathIn(_windows).Parent, journal);
            script.Write(_context.Tree, _windows);
            journal.Add(new JournalStep { Kind = "first-start", Path = command.Name });
        }
    }

    private List<WindowsPath> Matching(string pattern)
    {
        if (!Glob.IsPattern(pattern))
            return _context.Tree.Exists(WindowsPath.Parse(pattern)) ? [WindowsPath.Parse(pattern)] : [];
        return [.. TreeFiles.Matching(_context.Tree, pattern).Select(n => n.Path)];
    }

    private void Lay(InstalledPackage installed, IPackageFolder folder, string from, WindowsPath to, ChunkId hash, PackageFiles files,
        List<JournalStep> journal)
    {
        var there = _context.Tree.Find(to);
        if (there?.Entry is { Kind: EntryKind.File, New: null, Content: { } content } && content.Hash == hash
            && (files.Security is null || there.Entry.Security == Blake3.Hash(files.Security)))
            return;
        MakeFolders(to.Parent, journal);
        if (there is null)
            journal.Add(new JournalStep { Kind = "added", Path = to.ToString() });
        else
        {
            var saved = NextSaved(installed);
            _context.Tree.Copy(there, installed.Record.Append(WindowsPath.Parse(saved)));
            journal.Add(new JournalStep { Kind = "replaced", Path = there.Path.ToString(), Saved = saved });
        }
        _context.Tree.PutFile(to, folder.Content(from));
        if (_context.Tree.Find(to) is not { } made)
            return;
        if (files.Attributes is { } set)
            TreeEditor.SetAttributes(made, set);
        if (files.Security is { } security)
            TreeEditor.Set(made, e => e with { PendingSecurity = security });
    }

    private void TakeAway(InstalledPackage installed, WindowsPath path, List<JournalStep> journal)
    {
        if (_context.Tree.Find(path) is not { } node)
            return;
        var saved = NextSaved(installed);
        var from = node.Path.ToString();
        _context.Tree.Move(node, installed.Record.Append(WindowsPath.Parse(saved)));
        journal.Add(new JournalStep { Kind = "removed", Path = from, Saved = saved });
    }

    private string NextSaved(InstalledPackage installed)
    {
        if (!_saved.TryGetValue(installed, out var next))
        {
            next = _context.Tree.Names(installed.Record.Child("saved"))
                .Select(n => int.TryParse(n, System.Globalization.NumberStyles.None, System.Globalization.CultureInfo.InvariantCulture,
                    out var number) ? number + 1 : 0).DefaultIfEmpty().Max();
        }
        _saved[installed] = next + 1;
        return string.Create(System.Globalization.CultureInfo.InvariantCulture, $"saved/{next}");
    }

    private void MakeFolders(WindowsPath path, List<JournalStep> journal)
    {
        if (path.IsRoot || _context.Tree.Exists(path))
            return;
        MakeFolders(path.Parent, journal);
        _context.Tree.EnsureFolder(path);
        journal.Add(new JournalStep { Kind = "folder", Path = path.ToString() });
    }

    private void Undo(InstalledPackage package, IReadOnlyList<JournalStep> steps)
    {
        foreach (var step in steps.Reverse())
        {
            switch (step.Kind)
            {
                case "registry":
                    foreach (var edit in step.Undo)
                    {
                        if (_context.Hive(edit.Root) is not { } hive)
                            continue;
                        edit.Apply(hive.Root);
                        _context.MarkModified(edit.Root);
                    }
                    break;
                case "first-start":
                    var script = FirstStartScript.Read(_context.Tree, _windows);
                    if (script.Remove(step.Path))
                        script.Write(_context.Tree, _windows, keepFolders: true);
                    break;
                case "folder":
                    // Another package that needs the folder takes it away when it goes itself.
                    if (InUse.FirstOrDefault(o => o != package && IsIn(o, step.Path)) is { } user)
                    {
                        user.State = user.State with { Steps = [step, .. user.State.Steps] };
                        user.Save(_context.Tree);
                    }
                    else
                        RemoveEmpty(WindowsPath.Parse(step.Path));
                    break;
                case "added":
                    // Another package that brings the same file keeps it, and takes it away when it goes itself.
                    if (InUse.FirstOrDefault(o => o != package
                        && o.Manifest.Laid(PartsOf(o))
                        .Any(l => WindowsPath.Parse(l.To).ToString().Equals(step.Path, StringComparison.OrdinalIgnoreCase))) is { } heir)
                    {
                        heir.State = heir.State with { Steps = [step, .. heir.State.Steps] };
                        heir.Save(_context.Tree);
                    }
                    else if (_context.Tree.Find(WindowsPath.Parse(step.Path)) is { } added)
                        _context.Tree.Remove(added);
                    break;
                case "replaced" or "removed":
                    if (_context.Tree.Find(package.Record.Append(WindowsPath.Parse(step.Saved))) is { } saved)
                        _context.Tree.Move(saved, WindowsPath.Parse(step.Path));
                    break;
            }
        }
    }

    private bool IsIn(InstalledPackage package, string folder)
    {
        var below = folder + "/";
        var script = FirstStartScript.PathIn(_windows).ToString();
        return package.State.Features.Values.SelectMany(s => s).Concat(package.State.Steps).Any(s => s.Kind switch
        {
            "added" or "replaced" or "folder" => s.Path.StartsWith(below, StringComparison.OrdinalIgnoreCase),
            "first-start" => script.StartsWith(below, StringComparison.OrdinalIgnoreCase),
            _ => false,
        });
    }

    private void RemoveEmpty(WindowsPath path)
    {
        if (_context.Tree.Find(path) is { Entry.Kind: EntryKind.Folder } node && _context.Tree.Children(node).Count == 0)
            _context.Tree.Remove(node);
    }
}
