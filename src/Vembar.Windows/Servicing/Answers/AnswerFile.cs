using System.Xml;
using System.Xml.Linq;
using Vembar.Common;
using Vembar.Windows.Install;

namespace Vembar.Windows.Servicing.Answers;

/// <summary>An answer file: the XML that lets Windows set-up run without questions.</summary>
public sealed partial class AnswerFile
{
    /// <summary>The namespace of answer files.</summary>
    public const string Namespace = "urn:schemas-microsoft-com:unattend";

    private const string CatalogNamespace = "urn:schemas-microsoft-com:cpi";
    /// <summary>No file longer than this is read, in bytes.</summary>
    public const int Longest = 16 << 20;

    /// <summary>Stands for the computer's name until a deployment fills it in.</summary>
    public const string ComputerPlaceholder = "{{computer}}";

    private const string ShellSetup = "Microsoft-Windows-Shell-Setup";
    private static readonly string[] s_passes =
        ["windowsPE", "offlineServicing", "generalize", "specialize", "auditSystem", "auditUser", "oobeSystem"];
    private static readonly System.Buffers.SearchValues<char> s_notInNames =
        System.Buffers.SearchValues.Create("{|}~[\\]^':;<=>?@!\"#$%`()+/., *&");
    private static readonly XNamespace s_ns = Namespace;

    private readonly XDocument _document;

    private AnswerFile(XDocument document) => _document = document;

    /// <summary>Reads an answer file.</summary>
    /// <exception cref="VembarException">It is not well-formed XML; the message names line and column.</exception>
    public static AnswerFile Parse(byte[] bytes, string displayName)
    {
        try
        {
            var settings = new XmlReaderSettings
            {
                DtdProcessing = DtdProcessing.Prohibit,
                XmlResolver = null,
                MaxCharactersInDocument = Longest,
            };
            using var reader = XmlReader.Create(new MemoryStream(bytes), settings);
            return new AnswerFile(XDocument.Load(reader, LoadOptions.SetLineInfo | LoadOptions.PreserveWhitespace));
        }
        catch (XmlException problem)
        {
            throw VembarException.Input("bad-answer-file", $"'{displayName}' is not well-formed XML: {problem.Message.TrimEnd('.')}",
                "Fix it in an XML editor.");
        }
    }

    /// <summary>Whether it is an answer file at all, right or wrong; else some other XML.</summary>
    public bool IsAnswerFile => _document.Root?.Name == s_ns + "unattend";

    /// <summary>What is wrong or unwise.</summary>
    /// <param name="architecture">The image's (x64, arm64, x86); null or empty when it is not known.</param>
    public IReadOnlyList<AnswerFinding> Check(string? architecture)
    {
        var findings = new List<AnswerFinding>();
        void Error(XObject at, string text) => findings.Add(new AnswerFinding(true, ((IXmlLineInfo)at).LineNumber, text));
        void Warn(XObject at, Notice what) => findings.Add(new AnswerFinding(false, ((IXmlLineInfo)at).LineNumber, what.Text)
        {
            Advice = what.Advice,
        });

        var root = _document.Root!;
        if (root.Name != s_ns + "unattend")
        {
            Error(root, $"the root element is '{root.Name.LocalName}' in namespace '{root.Name.NamespaceName}'; it must be 'unattend' "
                + $"in '{Namespace}'");
            return findings;
        }
        var wanted = string.IsNullOrEmpty(architecture) ? null : WindowsInstall.ArchitectureWord(architecture);
        var passes = new HashSet<string>();
        foreach (var element in root.Elements())
        {
            if (element.Name.NamespaceName == CatalogNamespace || element.Name == s_ns + "servicing")
                continue;
            if (element.Name != s_ns + "settings")
            {
                Error(element, $"'{element.Name.LocalName}' has no place below 'unattend'; settings has");
                continue;
            }
            var pass = element.Attribute("pass")?.Value;
            if (pass is null || !s_passes.Contains(pass))
                Error(element, pass is null ? "settings has no pass"
                    : $"pass '{pass}' does not exist; passes are {string.Join(", ", s_passes)}");
            else if (!passes.Add(pass))
                Warn(element, $"pass '{pass}' appears twice");
            CheckComponents(element, pass ?? "", wanted, Error, Warn);
        }
        if (passes.Count == 0 && findings.Count == 0)
            Error(root, "there are no settings in it");
        return findings;
    }

    private static void CheckComponents(XElement settings, string pass, string? wanted, Action<XObject, string> error,
        Action<XObject, Notice> warn)
    {
        var components = settings.Elements(s_ns + "component").ToList();
        foreach (var component in components)
        {
            var name = component.Attribute("name")?.Value;
            var architecture = component.Attribute("processorArchitecture")?.Value;
            if (string.IsNullOrEmpty(name))
                error(component, "a component has no name");
            else if (pass.Length > 0)
                CheckSettings(component, name, pass, error, warn);
            if (components.Any(c => c != component && c.IsBefore(component) && c.Attribute("name")?.Value == name
                && c.Attribute("processorArchitecture")?.Value == architecture))
                warn(component, $"component '{name}' appears twice in pass '{pass}'");
            if (architecture is not ("amd64" or "arm64" or "x86" or "wow64"))
                error(component, architecture is null ? $"component '{name}' has no processorArchitecture"
                    : $"component '{name}' has processorArchitecture '{architecture}', which does not exist");
            else if (wanted is not null && architecture != wanted && architecture != "wow64"
                && !components.Any(c => c.Attribute("name")?.Value == name && c.Attribute("processorArchitecture")?.Value == wanted))
                error(component,
                    $"component '{name}' in pass '{pass}' is for {architecture}; the image is {wanted}, so Windows would ignore it in "
                    + $"silence");
            foreach (var element in component.Descendants())
            {
                if (element.Name.LocalName == "ComputerName" && name == ShellSetup && ComputerNameProblem(element.Value) is { } problem)
                    error(element, problem);
                if (!element.HasElements && element.Name.LocalName != "ComputerName"
                    && AnswerKnowledge.ValueProblem(element.Name.LocalName, element.Value.Trim()) is { } bad)
                {
                    // New time zones come with updates of Windows, so one that is not known here may be right.
                    if (element.Name.LocalName == "TimeZone")
                        warn(element, bad);
                    else
                        error(element, bad);
                }
                if (element.Name.LocalName == "LocalAccounts")
                    CheckAccounts(element, error);
                if (PasswordOf(element) is { } password)
                {
                    var plain = $"'{element.Name.LocalName}' holds a password in plain text";
                    warn(element, password.Hidden
                        ? $"'{element.Name.LocalName}' holds a password that is hidden, not protected: anyone who has the file can read it"
                        : element.HasElements ? new Notice(plain, Advice.Of("hide-passwords"))
                        : $"{plain}, which has no other form; keep the file from others");
                }
            }
        }
        foreach (var other in settings.Elements().Where(e => e.Name != s_ns + "component"))
            error(other, $"'{other.Name.LocalName}' has no place below 'settings'; component has");
    }

    private static void CheckAccounts(XElement accounts, Action<XObject, string> error)
    {
        var names = accounts.Elements(s_ns + "LocalAccount").Select(a => (Account: a, Name: a.Element(s_ns + "Name")?.Value.Trim() ?? ""))
            .Where(n => !n.Name.Contains("{{", StringComparison.Ordinal)).ToList();
        foreach (var (account, name) in names)
        {
            if (AnswerKnowledge.AccountProblem(name) is { } problem)
                error(account, problem);
        }
        foreach (var twice in names.Where(n => n.Name.Length > 0).GroupBy(n => n.Name, StringComparer.OrdinalIgnoreCase)
            .Where(g => g.Count() > 1))
            error(twice.Last().Account, $"the account '{twice.Key}' is there twice");
    }

    private static void CheckSettings(XElement component, string name, string pass, Action<XObject, string> error,
        Action<XObject, Notice> warn)
    {
        if (!AnswerKnowledge.Components.TryGetValue(name, out var known))
        {
            if (AnswerKnowledge.Components.Keys.FirstOrDefault(k => EditDistance.Distance(k, name) <= 3) is { } near)
                error(component, $"there is no component '{name}'; did you mean '{near}'?");
            return;
        }
        if (s_passes.Contains(pass) && !known.Passes.Contains(pass))
            error(component, $"component '{name}' does nothing in pass '{pass}'; it works in {string.Join(", ", known.Passes)}");
        foreach (var setting in component.Elements())
        {
            var word = setting.Name.LocalName;
            if (!known.Settings.TryGetValue(word, out var passes))
            {
                var near = known.Settings.Keys.MinBy(k => EditDistance.Distance(k, word));
                var meant = near is not null && EditDistance.Distance(near, word) <= Math.Max(2, word.Length / 4)
                    ? $"; did you mean '{near}'?" : "";
                warn(setting, $"'{word}' is not known in component '{name}'{meant}");
            }
            else if (passes.Length > 0 && known.Passes.Contains(pass) && !passes.Contains(pass))
                error(setting, $"'{word}' does nothing in pass '{pass}'; it works in {string.Join(", ", passes)}");
            if (setting.ElementsBeforeSelf(setting.Name).Any())
                error(setting, $"'{word}' appears twice in component '{name}'");
        }
        // Commands run in the order of their numbers, each of which may be there once; partitions and disks likewise.
        foreach (var list in component.Descendants().Where(e => e.Elements().Skip(1).Any()))
        {
            if (list.Elements().Where(e => e.Element(s_ns + "Order") is not null)
                .GroupBy(e => (e.Name, e.Element(s_ns + "Order")!.Value.Trim())).FirstOrDefault(g => g.Count() > 1) is { } twice)
                error(twice.Last(), $"order {twice.Key.Item2} appears twice in '{list.Name.LocalName}'");
        }
        foreach (var disk in component.Descendants(s_ns + "Disk"))
        {
            var made = disk.Descendants(s_ns + "CreatePartition").Select(p => p.Element(s_ns + "Order")?.Value.Trim()).ToHashSet();
            foreach (var id in disk.Descendants(s_ns + "ModifyPartition").Select(p => p.Element(s_ns + "PartitionID"))
                .Concat(component.Descendants(s_ns + "InstallTo")
                    .Where(i => i.Element(s_ns + "DiskID")?.Value.Trim() == disk.Element(s_ns + "DiskID")?.Value.Trim())
                        .Select(i => i.Element(s_ns + "PartitionID"))).OfType<XElement>())
            {
                if (made.Count > 0 && !made.Contains(id.Value.Trim()))
                    error(id, $"partition {id.Value.Trim()} is not among those that are made on that disk ({string.Join(", ", made)})");
            }
        }
    }

    // A password, and whether it is written in the form that hides it.
    private static (bool Hidden, string Text)? PasswordOf(XElement element)
    {
        if (element.Name.LocalName is not ("Password" or "AdministratorPassword" or "MachinePassword"))
            return null;
        if (element.Element(s_ns + "Value") is { Value.Length: > 0 } value)
            return (element.Element(s_ns + "PlainText")?.Value.Trim() == "false", value.Value);
        return !element.HasElements && element.Value.Length > 0 ? (false, element.Value) : null;
    }

    /// <summary>A password in the form that hides it: Base64 of UTF-16 of the password with its element's name behind it.</summary>
    public static string Hide(string password, string element) =>
        Convert.ToBase64String(System.Text.Encoding.Unicode.GetBytes(password + element));

    /// <summary>Hides the passwords that are in plain text, where Windows knows a hidden form. Hiding does not protect.</summary>
    /// <returns>How many were hidden.</returns>
    public int HidePasswords()
    {
        var plain = _document.Descendants().Where(e => e.Element(s_ns + "Value") is not null && PasswordOf(e) is { Hidden: false })
            .ToList();
        foreach (var password in plain)
        {
            password.SetElementValue(s_ns + "Value", Hide(password.Element(s_ns + "Value")!.Value, password.Name.LocalName));
            password.SetElementValue(s_ns + "PlainText", "false");
        }
        return plain.Count;
    }

    /// <summary>Why a text cannot be a computer name, or null when it can.</summary>
    public static string? ComputerNameProblem(string name)
    {
        const int Longest = 15;
        if (name is "*" or ComputerPlaceholder)
            return null;
        // What a deployment fills in is checked then; what stands around it must fit already.
        if (Placeholder().IsMatch(name))
            return Placeholder().Replace(name, "x") is var rest && rest.All(c => c == 'x' || char.IsAsciiDigit(c)) ? null
                : ComputerNameProblem(rest);
        if (name.Length == 0)
            return "the computer name is empty";
        if (name.Length > Longest)
            return $"the computer name '{name}' has {name.Length} characters; {Longest} are allowed";
        if (name.AsSpan().IndexOfAny(s_notInNames) is >= 0 and var at)
            return $"the computer name '{name}' holds '{name[at]}', which is not allowed";
        if (name.Any(char.IsControl))
            return "the computer name holds control characters";
        return name.All(char.IsAsciiDigit) ? $"the computer name '{name}' is digits alone, which is not allowed" : null;
    }

    /// <summary>An answer file that does nothing yet.</summary>
    public static AnswerFile Empty() => new(new XDocument(new XDeclaration("1.0", "utf-8", null), new XElement(s_ns + "unattend")));

    /// <summary>Sets the computer name that the specialize pass gives.</summary>
    /// <param name="name">A name that <see cref="ComputerNameProblem"/> has nothing against.</param>
    /// <param name="architecture">The image's.</param>
    public void SetComputerName(string name, string architecture)
    {
        var root = _document.Root!;
        var word = WindowsInstall.ArchitectureWord(architecture);
        var settings = root.Elements(s_ns + "settings").FirstOrDefault(s => s.Attribute("pass")?.Value == "specialize");
        if (settings is null)
            root.Add(settings = new XElement(s_ns + "settings", new XAttribute("pass", "specialize")));
        var component = settings.Elements(s_ns + "component")
            .FirstOrDefault(c => c.Attribute("name")?.Value == ShellSetup && c.Attribute("processorArchitecture")?.Value == word);
        if (component is null)
        {
            settings.Add(component = new XElement(
                s_ns + "component", new XAttribute("name", ShellSetup), new XAttribute("processorArchitecture", word),
                new XAttribute("publicKeyToken", "31bf3856ad364e35"), new XAttribute("language", "neutral"),
                new XAttribute("versionScope", "nonSxS")));
        }
        component.SetElementValue(s_ns + "ComputerName", name);
        // Wherever else the file asks for it.
        Fill(new Dictionary<string, string> { ["computer"] = name });
    }

    [System.Text.RegularExpressions.GeneratedRegex(@"\{\{([A-Za-z][A-Za-z0-9_-]*)\}\}")]
    private static partial System.Text.RegularExpressions.Regex Placeholder();

    /// <summary>The names between {{ and }} that a deployment has to fill in.</summary>
    public IReadOnlyList<string> Placeholders =>
        [.. _document.DescendantNodes().OfType<XText>().SelectMany(t => Placeholder().Matches(t.Value)).Select(m => m.Groups[1].Value)
        .Distinct().Order(StringComparer.Ordinal)];

    /// <summary>Fills in what stands between {{ and }}.</summary>
    /// <param name="values">Texts by their names; what is not among them stays.</param>
    public void Fill(IReadOnlyDictionary<string, string> values)
    {
        foreach (var text in _document.DescendantNodes().OfType<XText>().Where(t => t.Value.Contains("{{", StringComparison.Ordinal))
            .ToList())
            text.Value = Placeholder().Replace(text.Value, m => values.GetValueOrDefault(m.Groups[1].Value) ?? m.Value);
    }

    /// <summary>Takes over what another answer file says; where both say something, the other's stands. Items of lists are told by their
    /// names, commands by their lines; new ones go behind those that are there.</summary>
    /// <param name="other">The other; it is not changed.</param>
    /// <returns>How many settings are new or different.</returns>
    public int Merge(AnswerFile other)
    {
        var changed = 0;
        var root = _document.Root!;
        foreach (var theirs in other._document.Root!.Elements(s_ns + "settings"))
        {
            var pass = theirs.Attribute("pass")?.Value;
            var settings = root.Elements(s_ns + "settings").FirstOrDefault(s => s.Attribute("pass")?.Value == pass);
            if (settings is null)
                root.Add(settings = new XElement(s_ns + "settings", theirs.Attributes()));
            foreach (var component in theirs.Elements(s_ns + "component"))
            {
                var mine = settings.Elements(s_ns + "component")
                    .FirstOrDefault(c => c.Attribute("name")?.Value == component.Attribute("name")?.Value
                        && c.Attribute("processorArchitecture")?.Value == component.Attribute("processorArchitecture")?.Value);
                if (mine is null)
                    settings.Add(mine = new XElement(component.Name, component.Attributes()));
                changed += Merge(mine, component);
            }
        }
        if (changed > 0)
            _document.DescendantNodes().OfType<XText>().Where(t => string.IsNullOrWhiteSpace(t.Value) && t.Parent is { HasElements: true })
                .ToList().ForEach(t => t.Remove());
        return changed;
    }

    private static int Merge(XElement to, XElement from)
    {
        var changed = 0;
        foreach (var theirs in from.Elements())
        {
            // An item that is told by its name keeps its place.
            if (theirs.Name.LocalName == "Order" && KeyOf(from).Name is { LocalName: not "Order" })
                continue;
            var isItem = theirs.Element(s_ns + "Order") is not null || theirs.Attributes().Any(a => a.Name.LocalName == "action")
                || from.Elements(theirs.Name).Skip(1).Any();
            var mine = isItem ? to.Elements(theirs.Name).FirstOrDefault(e => KeyOf(e) == KeyOf(theirs)) : to.Element(theirs.Name);
            if (mine is { HasElements: true } && theirs.HasElements)
                changed += Merge(mine, theirs);
            else if (mine is not null && mine.Value.Trim() == theirs.Value.Trim() && !mine.HasElements && !theirs.HasElements)
                continue;
            else
            {
                var copy = new XElement(theirs);
                if (isItem && mine is null && copy.Element(s_ns + "Order") is { } order)
                    order.Value = (to.Elements(theirs.Name)
                        .Select(e => int.TryParse(e.Element(s_ns + "Order")?.Value, System.Globalization.CultureInfo.InvariantCulture,
                            out var n) ? n : 0).DefaultIfEmpty(0).Max() + 1).ToString(System.Globalization.CultureInfo.InvariantCulture);
                if (mine is null)
                    to.Add(copy);
                else
                    mine.ReplaceWith(copy);
                changed++;
            }
        }
        return changed;
    }

    // What tells an item of a list from the others.
    private static (XName? Name, string Text) KeyOf(XElement item) =>
        ((string[])["Name", "CommandLine", "Path", "DiskID", "PartitionID", "Order"]).Select(n => item.Element(s_ns + n))
        .FirstOrDefault(e => e is not null) is { } key ? (key.Name, key.Value.Trim()) : (null, item.Value.Trim());

    /// <summary>The file's bytes in UTF-8.</summary>
    public byte[] ToBytes()
    {
        var stream = new MemoryStream();
        using (var writer = XmlWriter.Create(stream, new XmlWriterSettings
        {
            Encoding = new System.Text.UTF8Encoding(false),
            Indent = !_document.DescendantNodes().OfType<XText>().Any(t => string.IsNullOrWhiteSpace(t.Value)),
        }))
            _document.Save(writer);
        return stream.ToArray();
    }
}
