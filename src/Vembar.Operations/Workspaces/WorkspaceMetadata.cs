using System.Globalization;
using System.Text;
using System.Text.Json;
using Vembar.Images.Editing;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Store.Hashing;
using Vembar.Windows.Registry;

namespace Vembar.Operations.Workspaces;

/// <summary>The metadata file of a workspace: a JSON document a line, first the security descriptors, then the entries.
/// docs/workspaces.md.</summary>
internal static class WorkspaceMetadata
{
    private static readonly (WindowsAttributes Attribute, string Word)[] s_words =
    [
        (WindowsAttributes.ReadOnly, "read-only"), (WindowsAttributes.Hidden, "hidden"), (WindowsAttributes.System, "system"),
        (WindowsAttributes.Directory, "directory"), (WindowsAttributes.Archive, "archive"),
        (WindowsAttributes.Normal, "normal"), (WindowsAttributes.Temporary, "temporary"), (WindowsAttributes.Sparse, "sparse"),
        (WindowsAttributes.Reparse, "reparse"), (WindowsAttributes.Compressed, "compressed"),
        (WindowsAttributes.Offline, "offline"), (WindowsAttributes.NotIndexed, "not-indexed"), (WindowsAttributes.Encrypted, "encrypted"),
    ];

    // What files are of themselves cannot be set by a word.
    private const WindowsAttributes Settable =
        WindowsAttributes.ReadOnly | WindowsAttributes.Hidden | WindowsAttributes.System | WindowsAttributes.Archive
        | WindowsAttributes.Normal | WindowsAttributes.Temporary | WindowsAttributes.NotIndexed | WindowsAttributes.Offline;

    private static string Words(WindowsAttributes attributes)
    {
        var words = s_words.Where(w => attributes.HasFlag(w.Attribute)).Select(w => w.Word).ToList();
        var rest = (uint)attributes & ~s_words.Aggregate(0u, (all, w) => all | (uint)w.Attribute);
        return string.Join(' ', rest == 0 ? words : words.Append(string.Create(CultureInfo.InvariantCulture, $"0x{rest:x}")));
    }

    private static WindowsAttributes? Attributes(string words)
    {
        var all = WindowsAttributes.None;
        foreach (var word in words.Split(' ', StringSplitOptions.RemoveEmptyEntries))
        {
            if (s_words.FirstOrDefault(w => w.Word == word) is { Word: not null } known)
                all |= known.Attribute;
            else if (word.StartsWith("0x", StringComparison.Ordinal)
                && uint.TryParse(word.AsSpan(2), NumberStyles.HexNumber, CultureInfo.InvariantCulture, out var rest))
                all |= (WindowsAttributes)rest;
            else
                return null;
        }
        return all;
    }

    private static string? Text(FileTime? time) => time?.ToDateTime().ToString("O", CultureInfo.InvariantCulture);

    private static MetadataLine Line(string path, TreeEntry entry) => new()
    {
        Path = path,
        Attributes = entry.Attributes is { } attributes ? Words(attributes) : null,
        Created = Text(entry.Created),
        Accessed = Text(entry.Accessed),
        Changed = Text(entry.Changed),
        ShortName = entry.ShortName,
        Security = entry.Security.IsNone ? null : Short(entry.Security),
        Streams = entry.Streams.Count > 0 ? [.. entry.Streams.Select(s => s.Name)] : null,
        Reparse = entry.Reparse is { } reparse ? Convert.ToBase64String(reparse) : null,
    };

    private static MetadataLine Described(string name, byte[] descriptor) => SecurityText.Format(descriptor) is { } text
        ? new MetadataLine
        {
            Descriptor = name,
            Text = text,
        } : new MetadataLine { Descriptor = name, Bytes = Convert.ToBase64String(descriptor) };

    private static string Short(ChunkId id) => id.ToString()[..12];

    /// <summary>The file for what an editor holds.</summary>
    public static byte[] Write(TreeEditor editor, Func<ChunkId, byte[]> descriptors)
    {
        using var stream = new MemoryStream();
        var written = new HashSet<ChunkId>();
        var entries = new MemoryStream();
        static void Add(Stream to, MetadataLine line)
        {
            JsonSerializer.Serialize(to, line, Compact.MetadataLine);
            to.WriteByte((byte)'\n');
        }
        void Visit(TreeEditor.Node node, string path)
        {
            if (!node.Entry.Security.IsNone && written.Add(node.Entry.Security))
                Add(stream, Described(Short(node.Entry.Security), descriptors(node.Entry.Security)));
            if (Line(path, node.Entry) is var line && line != new MetadataLine { Path = path })
                Add(entries, line);
            if (node.Entry.Kind != EntryKind.Folder)
                return;
            foreach (var child in editor.Children(node))
                Visit(child, path.Length > 0 ? $"{path}/{child.Entry.Name}" : child.Entry.Name);
        }
        Visit(editor.Root, "");
        entries.WriteTo(stream);
        return stream.ToArray();
    }

    private static WorkspaceJson Compact { get; } = new(new JsonSerializerOptions
    {
        PropertyNamingPolicy = JsonNamingPolicy.CamelCase,
        Encoder = System.Text.Encodings.Web.JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
    });

    /// <summary>What was changed in a file by hand.</summary>
    /// <param name="bytes">The file.</param>
    /// <param name="find">Finds entries of the image by their paths.</param>
    /// <param name="problems">Gets what is wrong, with its line.</param>
    public static IReadOnlyList<(TreeEditor.Node Node, string Path, IReadOnlyList<string> What, Func<TreeEntry, TreeEntry> Change)> Read(
        byte[] bytes, Func<string, TreeEditor.Node?> find, List<string> problems)
    {
        var changes = new List<(TreeEditor.Node, string, IReadOnlyList<string>, Func<TreeEntry, TreeEntry>)>();
        var descriptors = new Dictionary<string, byte[]>();
        var seen = new HashSet<string>();
        var number = 0;
        foreach (var text in Encoding.UTF8.GetString(bytes).Split('\n'))
        {
            number++;
            if (string.IsNullOrWhiteSpace(text))
                continue;
            void Wrong(string problem) => problems.Add(string.Create(CultureInfo.InvariantCulture, $"metadata, line {number}: {problem}"));
            MetadataLine line;
            try
            {
                line = JsonSerializer.Deserialize(text, Compact.MetadataLine) ?? new MetadataLine();
            }
            catch (JsonException problem)
            {
                Wrong($"it is not a JSON document: {problem.Message.Split('.')[0]}");
                continue;
            }
            if (line is { Descriptor: { } called, Text: { } sddl })
            {
                if (SecurityText.Parse(sddl, out var bad) is { } parsed)
                    descriptors[called] = parsed;
                else
                    Wrong($"the security descriptor '{called}': {bad}");
                continue;
            }
            if (line is { Descriptor: { } name, Bytes: { } encoded })
            {
                // A self-relative descriptor: revision 1, flags with the top bit, four offsets (MS-DTYP 2.4.6).
                const int Shortest = 20;
                var buffer = new byte[encoded.Length];
                if (!Convert.TryFromBase64String(encoded, buffer, out var length) || length < Shortest || buffer[0] != 1
                    || (buffer[3] & 0x80) == 0)
                    Wrong($"the security descriptor '{name}' is not one");
                else
                    descriptors[name] = buffer[..length];
                continue;
            }
            if (line.Path is not { } path || find(path) is not { } node)
                Wrong(line.Path is null ? "it names no entry" : $"'{line.Path}' is not in the image");
            else if (!seen.Add(path))
                Wrong($"'{path}' stands there twice");
            else if (Difference(node, line, descriptors, Wrong) is { What.Count: > 0 } change)
                changes.Add((node, path, change.What, change.Change));
        }
        return changes;
    }

    private static (IReadOnlyList<string> What, Func<TreeEntry, TreeEntry> Change)? Difference(TreeEditor.Node node, MetadataLine line,
        Dictionary<string, byte[]> descriptors, Action<string> wrong)
    {
        var was = Line(line.Path!, node.Entry);
        var what = new List<string>();
        Func<TreeEntry, TreeEntry> change = e => e;
        void Then(string word, Func<TreeEntry, TreeEntry> step)
        {
            var before = change;
            change = e => step(before(e));
            what.Add(word);
        }
        if (line.Attributes != was.Attributes)
        {
            if (line.Attributes is null || Attributes(line.Attributes) is not { } attributes)
                wrong($"'{line.Attributes}' are not attributes: {string.Join(", ", s_words.Select(w => w.Word))} are");
            else if (((attributes ^ (node.Entry.Attributes ?? 0)) & ~Settable) is var fixedOnes and not 0)
                wrong($"'{Words(fixedOnes)}' cannot be set or taken away here");
            else
                Then("attributes", e => e with { Attributes = attributes });
        }
        foreach (var (word, now, before, set) in ((string, string?, string?, Func<TreeEntry, FileTime, TreeEntry>)[])
        [
            ("created", line.Created, was.Created, (e, t) => e with
            {
                Created = t,
            }), ("accessed", line.Accessed, was.Accessed, (e, t) => e with
            {
                Accessed = t,
            }), ("changed", line.Changed, was.Changed, (e, t) => e with { Changed = t }),
        ])
        {
            if (now == before)
                continue;
            if (now is null || !DateTime.TryParse(now, CultureInfo.InvariantCulture,
                DateTimeStyles.AdjustToUniversal | DateTimeStyles.AssumeUniversal, out var time) || time.Year < 1601)
                wrong($"'{now}' is not a time: 2026-09-01T06:00:00Z is one");
            else
                Then(word, e => set(e, FileTime.From(time)));
        }
        if (line.ShortName != was.ShortName)
        {
            const int Longest = 12;
            if (line.ShortName is { } shortName && (shortName.Length is 0 or > Longest || !WindowsPath.IsUsableName(shortName)))
                wrong($"'{shortName}' is not a short name: eight letters, a dot, three letters");
            else
                Then("short name", e => e with { ShortName = line.ShortName });
        }
        if (line.Security != was.Security)
        {
            if (line.Security is null || !descriptors.TryGetValue(line.Security, out var descriptor))
                wrong($"there is no security descriptor '{line.Security}' above");
            else
                Then("security", e => e with { Security = default, PendingSecurity = descriptor });
        }
        if (line.Reparse != was.Reparse || !(line.Streams ?? []).SequenceEqual(was.Streams ?? []))
            wrong($"streams and reparse data of '{line.Path}' cannot be changed here");
        return (what, change);
    }
}
