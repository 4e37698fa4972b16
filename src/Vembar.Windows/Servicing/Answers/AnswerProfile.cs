using System.Globalization;
using System.Text;
using System.Xml.Linq;
using Vembar.Common;
using Vembar.Common.Formats;
using Vembar.Volumes.Disks;
using Vembar.Volumes.Targets;
using Vembar.Windows.Install;
using YamlDotNet.RepresentationModel;

namespace Vembar.Windows.Servicing.Answers;

/// <summary>Makes an answer file from a short profile. docs/answers.md.</summary>
public static class AnswerProfile
{
    private const string ShellSetup = "Microsoft-Windows-Shell-Setup";
    private static readonly XNamespace s_ns = AnswerFile.Namespace, s_wcm = "http://schemas.microsoft.com/WMIConfig/2002/State";
    private static readonly string[] s_known = ["architecture", "computer", "owner", "organisation", "language", "input", "time-zone",
        "product-key", "administrator-password", "accounts", "domain", "workgroup", "specialize", "first-logon", "skip", "disk"];

    // What may be skipped, and what says so in the answer file.
    private static readonly (string Word, string Setting, string Value)[] s_pages =
    [
        ("licence", "HideEULAPage", "true"), ("local-account", "HideLocalAccountScreen", "true"),
        ("oem-registration", "HideOEMRegistrationScreen", "true"), ("online-account", "HideOnlineAccountScreens", "true"),
        ("wireless", "HideWirelessSetupInOOBE", "true"), ("privacy", "ProtectYourPC", "3"),
    ];

    /// <summary>Makes the answer file; passwords in it are hidden, not protected.</summary>
    /// <param name="path">The profile.</param>
    /// <param name="otherwise">The architecture, in the words of answer files, where the profile says none.</param>
    /// <exception cref="VembarException">It is not a profile; all mistakes are told with their lines.</exception>
    public static AnswerFile Make(string path, string otherwise = "amd64")
    {
        var yaml = YamlFile.Load(path, "an answer profile", "bad-profile", "docs/answers.md");
        var root = yaml.Root;
        yaml.Known(root, s_known);
        string Text(string key) => root.At(key) is YamlScalarNode { Value: { } value } ? value : "";
        List<string> Texts(string key) => yaml.Texts(root.At(key));
        var architecture = Text("architecture") is { Length: > 0 } given ? WindowsInstall.ArchitectureWord(given) : otherwise;
        if (architecture is not ("amd64" or "arm64" or "x86"))
            yaml.Wrong(root.At("architecture")!, "'architecture' is amd64, arm64 or x86");
        if (Text("computer") is { Length: > 0 } computer && !computer.Contains("{{", StringComparison.Ordinal)
            && AnswerFile.ComputerNameProblem(computer) is { } problem)
            yaml.Wrong(root.At("computer")!, problem);
        foreach (var (key, setting) in ((string, string)[])[("language", "UILanguage"), ("input", "InputLocale"),
            ("product-key", "ProductKey")])
        {
            if (Text(key) is { Length: > 0 } value && AnswerKnowledge.ValueProblem(setting, value) is { } wrong)
                yaml.Wrong(root.At(key)!, wrong);
        }

        XElement Component(string name) =>
            new(s_ns + "component", new XAttribute("name", name), new XAttribute("processorArchitecture", architecture),
            new XAttribute("publicKeyToken", "31bf3856ad364e35"), new XAttribute("language", "neutral"),
            new XAttribute("versionScope", "nonSxS"));
        static void Set(XElement at, string name, string value)
        {
            if (value.Length > 0)
                at.Add(new XElement(s_ns + name, value));
        }
        static XElement Hidden(string name, string password) =>
            new(s_ns + name, new XElement(s_ns + "Value", AnswerFile.Hide(password, name)), new XElement(s_ns + "PlainText", "false"));
        XElement Commands(string list, string item, string line, IEnumerable<string> commands) =>
            new(s_ns + list, commands.Select((c, i) => new XElement(s_ns + item, new XAttribute(s_wcm + "action", "add"),
            new XElement(s_ns + "Order", (i + 1).ToString(CultureInfo.InvariantCulture)), new XElement(s_ns + line, c))));

        var shell = Component(ShellSetup);
        Set(shell, "ComputerName", Text("computer") is { Length: > 0 } name ? name : "*");
        Set(shell, "ProductKey", Text("product-key"));
        Set(shell, "RegisteredOrganization", Text("organisation"));
        Set(shell, "RegisteredOwner", Text("owner"));
        Set(shell, "TimeZone", Text("time-zone"));
        var specialize = new XElement(s_ns + "settings", new XAttribute("pass", "specialize"), shell);
        if (root.At("domain") is { } domain && yaml.Fields(domain, "name", "ou", "user", "password") is { } join)
        {
            string Of(string key) => join.GetValueOrDefault(key) ?? "";
            if (Of("name").Length == 0 || (Of("user").Length > 0) != (Of("password").Length > 0))
                yaml.Wrong(domain, "a domain has a name, and may have ou, and user with password");
            // Here Windows takes the password as it is; there is no hidden form.
            var identification = new XElement(s_ns + "Identification");
            if (Of("user").Length > 0)
                identification.Add(new XElement(s_ns + "Credentials", new XElement(s_ns + "Domain", Of("name")),
                    new XElement(s_ns + "Password", Of("password")), new XElement(s_ns + "Username", Of("user"))));
            Set(identification, "JoinDomain", Of("name"));
            Set(identification, "MachineObjectOU", Of("ou"));
            var component = Component("Microsoft-Windows-UnattendedJoin");
            component.Add(identification);
            specialize.Add(component);
        }
        else if (Text("workgroup") is { Length: > 0 } workgroup)
        {
            var component = Component("Microsoft-Windows-UnattendedJoin");
            component.Add(new XElement(s_ns + "Identification", new XElement(s_ns + "JoinWorkgroup", workgroup)));
            specialize.Add(component);
        }
        if (Texts("specialize") is { Count: > 0 } commands)
        {
            var component = Component("Microsoft-Windows-Deployment");
            component.Add(Commands("RunSynchronous", "RunSynchronousCommand", "Path", commands));
            specialize.Add(component);
        }

        var oobe = new XElement(s_ns + "settings", new XAttribute("pass", "oobeSystem"));
        if (Text("language") is { Length: > 0 } language)
        {
            var component = Component("Microsoft-Windows-International-Core");
            Set(component, "InputLocale", Text("input") is { Length: > 0 } input ? input : language);
            foreach (var setting in (string[])["SystemLocale", "UILanguage", "UserLocale"])
                Set(component, setting, language);
            oobe.Add(component);
        }
        var welcome = Component(ShellSetup);
        if (Texts("first-logon") is { Count: > 0 } logon)
            welcome.Add(Commands("FirstLogonCommands", "SynchronousCommand", "CommandLine", logon));
        var pages = new XElement(s_ns + "OOBE");
        foreach (var page in Texts("skip"))
        {
            if (s_pages.FirstOrDefault(p => p.Word == page) is { Word: not null } known)
                Set(pages, known.Setting, known.Value);
            else
                yaml.Wrong(root.At("skip")!,
                    $"'{page}' is not a page that can be skipped: {string.Join(", ", s_pages.Select(p => p.Word))} are");
        }
        if (pages.HasElements)
            welcome.Add(pages);
        var accounts = new XElement(s_ns + "UserAccounts");
        if (Text("administrator-password") is { Length: > 0 } administrator)
            accounts.Add(Hidden("AdministratorPassword", administrator));
        if (root.At("accounts") is { } listed)
        {
            var local = new XElement(s_ns + "LocalAccounts");
            foreach (var item in listed is YamlSequenceNode list ? list.Children : [listed])
            {
                if (yaml.Fields(item, "name", "password", "group", "title") is not { } account)
                    continue;
                string Of(string key) => account.GetValueOrDefault(key) ?? "";
                const int LongestName = 20;
                if (Of("name").Length is 0 or > LongestName || Of("name").IndexOfAny([.. "\"/\\[]:;|=,+*?<>@"]) >= 0)
                    yaml.Wrong(item,
                        $"'{Of("name")}' is not an account's name: at most {LongestName} characters without \" / \\ [ ] : ; | = , + * ? "
                        + $"< > @");
                if (Of("group") is not ("" or "Administrators" or "Users"))
                    yaml.Wrong(item, "'group' is Administrators or Users");
                local.Add(new XElement(s_ns + "LocalAccount", new XAttribute(s_wcm + "action", "add"), Hidden("Password", Of("password")),
                    new XElement(s_ns + "DisplayName", Of("title") is { Length: > 0 } title ? title : Of("name")),
                    new XElement(s_ns + "Group", Of("group") is { Length: > 0 } group ? group : "Users"),
                    new XElement(s_ns + "Name", Of("name"))));
            }
            accounts.Add(local);
        }
        if (accounts.HasElements)
            welcome.Add(accounts);
        if (welcome.HasElements)
            oobe.Add(welcome);
        var disk = root.At("disk") is { } node && yaml.Fields(node, "number", "layout") is { } fields ? Disk(yaml, node, fields, Component)
            : null;
        yaml.Throw();
        var unattend = new XElement(s_ns + "unattend", new XAttribute(XNamespace.Xmlns + "wcm", s_wcm), disk, specialize);
        if (oobe.HasElements)
            unattend.Add(oobe);
        var document = new XDocument(new XDeclaration("1.0", "utf-8", null), unattend);
        return AnswerFile.Parse(Encoding.UTF8.GetBytes(document.Declaration + "\n" + document), path);
    }

    // How Windows' own set-up divides a disk, and where it puts Windows.
    private static XElement? Disk(YamlFile yaml, YamlNode node, Dictionary<string, string> fields, Func<string, XElement> component)
    {
        if (!uint.TryParse(fields.GetValueOrDefault("number") ?? "0", NumberStyles.None, CultureInfo.InvariantCulture, out var number))
            yaml.Wrong(node, "'number' is the disk's number, from 0");
        DiskLayout layout;
        try
        {
            layout = DiskLayout.Named(fields.GetValueOrDefault("layout") ?? "uefi");
        }
        catch (VembarException problem)
        {
            yaml.Wrong(node, problem.Message);
            return null;
        }
        static string Text(long value) => value.ToString(CultureInfo.InvariantCulture);
        XElement Element(string name, params object[] content) => new(s_ns + name, content);
        XElement Item(string name, params object[] content) => new(s_ns + name, [new XAttribute(s_wcm + "action", "add"), .. content]);
        var create = Element("CreatePartitions");
        var modify = Element("ModifyPartitions");
        var windows = 0;
        // Only one partition takes what is left, and set-up wants it last: those behind Windows are made before it.
        var partitions = layout.Partitions.OrderBy(p => p.Role == PartitionRole.Windows).ToList();
        foreach (var (partition, i) in partitions.Select((p, i) => (p, i + 1)))
        {
            if (partition.Role == PartitionRole.Windows)
                windows = i;
            create.Add(Item("CreatePartition", Element("Order", Text(i)),
                partition.Bytes is { } size ? Element("Size", Text(size >> 20)) : Element("Extend", "true"),
                Element("Type", partition.Role switch { PartitionRole.Efi => "EFI", PartitionRole.Reserved => "MSR", _ => "Primary" })));
            if (partition.Role != PartitionRole.Reserved)
            {
                modify.Add(Item("ModifyPartition", Element("Order", Text(modify.Elements().Count() + 1)), Element("PartitionID", Text(i)),
                    Element("Format", partition.Role == PartitionRole.Efi ? "FAT32" : "NTFS"),
                    partition.Label.Length > 0 ? Element("Label", partition.Label) : null!,
                    partition.Role == PartitionRole.Windows ? Element("Letter", "C") : null!,
                    partition.Role == PartitionRole.Recovery && layout.Scheme == PartitionScheme.Gpt
                    ? Element("TypeID", "DE94BBA4-06D1-4D40-A16A-BFD50179D6AC") : null!,
                    partition.Role == PartitionRole.System ? Element("Active", "true") : null!));
            }
        }
        var setup = component("Microsoft-Windows-Setup");
        setup.Add(Element("DiskConfiguration",
            Item("Disk", Element("DiskID", Text(number)), Element("WillWipeDisk", "true"), create, modify)),
            Element("ImageInstall",
            Element("OSImage", Element("InstallTo", Element("DiskID", Text(number)), Element("PartitionID", Text(windows))))));
        return new XElement(s_ns + "settings", new XAttribute("pass", "windowsPE"), setup);
    }
}
