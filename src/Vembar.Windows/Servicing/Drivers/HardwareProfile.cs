using System.Text;
using Vembar.Common;
using Vembar.Common.Formats;
using YamlDotNet.RepresentationModel;

namespace Vembar.Windows.Servicing.Drivers;

/// <summary>The devices of a hardware model. docs/hardware.md describes the file.</summary>
/// <param name="Model">The model's name.</param>
/// <param name="Devices">Its devices.</param>
public sealed record HardwareProfile(string Model, IReadOnlyList<HardwareDevice> Devices)
{
    private const int LongestId = 200, MostDevices = 10_000;

    /// <summary>Reads profiles: files, or folders of .yaml files.</summary>
    /// <exception cref="VembarException">One is not a profile; all mistakes in it are told with their lines.</exception>
    public static IReadOnlyList<HardwareProfile> ReadAll(IEnumerable<string> paths)
    {
        var profiles = new List<HardwareProfile>();
        foreach (var path in paths)
        {
            if (!Directory.Exists(path))
                profiles.Add(Read(path));
            else if (Directory.EnumerateFiles(path).Where(f => Path.GetExtension(f) is ".yaml" or ".yml").Order(StringComparer.Ordinal)
                .ToList() is { Count: > 0 } files)
                profiles.AddRange(files.Select(Read));
            else
                throw VembarException.Input("no-profile", $"there is no hardware profile (.yaml) in '{path}'",
                    Advice.Of("no-profile"));
        }
        if (profiles.GroupBy(p => p.Model, StringComparer.OrdinalIgnoreCase).FirstOrDefault(g => g.Count() > 1) is { } twice)
            throw VembarException.Input("bad-profile", $"two profiles are of the model '{twice.Key}'", "Give each model one profile.");
        return profiles;
    }

    /// <summary>Reads a profile.</summary>
    /// <exception cref="VembarException">It is not there or not a profile; all mistakes are told with their lines.</exception>
    public static HardwareProfile Read(string path)
    {
        var yaml = YamlFile.Load(path, "a hardware profile", "bad-profile", "docs/hardware.md");
        var model = "";
        var devices = new List<HardwareDevice>();
        foreach (var (key, value) in yaml.Root.Children)
        {
            switch ((key as YamlScalarNode)?.Value)
            {
                case "model" when value is YamlScalarNode scalar:
                    model = scalar.Value ?? "";
                    break;
                case "devices" when value is YamlSequenceNode list:
                    if (list.Children.Count > MostDevices)
                        yaml.Wrong(value, $"a machine has fewer than {MostDevices} devices");
                    else
                        devices.AddRange(list.Select(item => ReadDevice(yaml, item)).OfType<HardwareDevice>());
                    break;
                default:
                    yaml.Wrong(key, $"'{key}' is not known here, or has the wrong form; known are 'model' (text) and 'devices' (a list)");
                    break;
            }
        }
        if (yaml.IsSound && model.Length == 0)
            yaml.Wrong("it does not name its model");
        if (yaml.IsSound && devices.Count == 0)
            yaml.Wrong("it lists no devices");
        yaml.Throw();
        return new HardwareProfile(model, devices);
    }

    private static HardwareDevice? ReadDevice(YamlFile yaml, YamlNode item)
    {
        if (item is not YamlMappingNode map)
        {
            yaml.Wrong(item, "a device is a mapping with name, hardware, compatible, needed, boot");
            return null;
        }
        var name = "";
        bool needed = false, boot = false;
        List<string> hardware = [], compatible = [];
        foreach (var (key, value) in map.Children)
        {
            var word = (key as YamlScalarNode)?.Value ?? "";
            switch (word)
            {
                case "name" when value is YamlScalarNode text:
                    name = text.Value ?? "";
                    break;
                case "hardware" or "compatible":
                    (word == "hardware" ? hardware : compatible).AddRange(Ids(yaml, value));
                    break;
                case "needed" or "boot" when value is YamlScalarNode { Value: "yes" or "no" or "true" or "false" } flag:
                    if (word == "needed")
                        needed = flag.Value is "yes" or "true";
                    else
                        boot = flag.Value is "yes" or "true";
                    break;
                default:
                    yaml.Wrong(key,
                        $"'{word}' is not known in a device, or has the wrong form; known are name, hardware and compatible (ids), "
                        + $"needed and boot (yes or no)");
                    break;
            }
        }
        if (hardware.Count + compatible.Count == 0)
            yaml.Wrong(item, "a device needs hardware or compatible ids");
        return new HardwareDevice(name.Length > 0 ? name : hardware.Concat(compatible).FirstOrDefault() ?? "", hardware, compatible,
            needed || boot, boot);
    }

    private static IEnumerable<string> Ids(YamlFile yaml, YamlNode node)
    {
        foreach (var id in node is YamlSequenceNode list ? list.Children : [node])
        {
            if (id is YamlScalarNode { Value: { Length: > 0 and <= LongestId } text } && !text.Any(c => c is < '!' or > '~'))
                yield return text;
            else
                yaml.Wrong(id, "a hardware id is one word of at most 200 ASCII characters, PCI\\VEN_F1C0&DEV_0400 for instance");
        }
    }

    /// <summary>The profile as the file that <see cref="Read"/> reads.</summary>
    public string ToYaml()
    {
        static string Quoted(string text) => $"'{text.Replace("'", "''", StringComparison.Ordinal)}'";
        var yaml = new StringBuilder();
        yaml.Append(null, $"model: {Quoted(Model)}\ndevices:\n");
        foreach (var device in Devices)
        {
            yaml.Append(null, $"  - name: {Quoted(device.Name)}\n");
            foreach (var (key, ids) in ((string, IReadOnlyList<string>)[])[("hardware", device.HardwareIds),
                ("compatible", device.CompatibleIds)])
            {
                if (ids.Count > 0)
                    yaml.Append(null, $"    {key}:\n").AppendJoin("", ids.Select(i => $"      - {Quoted(i)}\n"));
            }
            if (device.Needed)
                yaml.Append("    needed: yes\n");
            if (device.Boot)
                yaml.Append("    boot: yes\n");
        }
        return yaml.ToString();
    }
}
