using System.Globalization;
using Vembar.Common;
using Vembar.Common.Formats;
using Vembar.Operations.Mark;
using Vembar.Store.Compression;
using Vembar.Store.Places;
using Vembar.Volumes.Machines;
using YamlDotNet.RepresentationModel;

namespace Vembar.Operations.Builds;

/// <summary>Reads recipes: YAML, docs/recipes.md.</summary>
public sealed class RecipeFile
{
    /// <summary>Keys at the top.</summary>
    public static IReadOnlyList<string> Keys { get; } = ["title", "variables", "from", "prepare", "ready", "capture", "service",
        "expect", "sign",
        "mark", "sync", "keep", "tell"];
    /// <summary>Keys of `prepare`.</summary>
    public static IReadOnlyList<string> PrepareKeys { get; } = ["run", "limit", "memory", "processors", "firmware", "network", "emulate",
        "files", "answers",
        "medium"];
    /// <summary>Keys of `capture`.</summary>
    public static IReadOnlyList<string> CaptureKeys { get; } = ["archive", "name", "version", "edition", "note", "effort", "leave-out"];
    /// <summary>Keys of `ready`.</summary>
    public static IReadOnlyList<string> ReadyKeys { get; } = ["check", "rules", "accept"];
    /// <summary>Keys of `mark`.</summary>
    public static IReadOnlyList<string> MarkKeys { get; } = ["channel", "retire-before"];
    internal static readonly string[] Efforts = ["quick", "balanced", "dense"];
    internal static readonly string[] Firmwares = ["uefi", "secure-boot", "bios"];

    private const string Advised = "docs/recipes.md";
    private static readonly TimeSpan s_usualLimit = TimeSpan.FromHours(6);

    private readonly YamlFile _yaml;
    private readonly RecipeOptions _options;
    private readonly string _path, _folder;
    private readonly RecipeVariables _variables;

    private RecipeFile(string path, RecipeOptions options)
    {
        (_path, _options) = (Path.GetFullPath(path), options);
        _folder = Path.GetDirectoryName(_path)!;
        _yaml = YamlFile.Load(path, "a recipe", "bad-recipe", Advised);
        _variables = new RecipeVariables(_yaml, options, Build, Version);
    }

    /// <summary>Reads a recipe; paths in it are relative to the file.</summary>
    /// <param name="path">The file.</param>
    /// <param name="options">What it is read with.</param>
    /// <exception cref="VembarException">It is not there or not a recipe; all mistakes are told with their lines.</exception>
    public static Recipe Read(string path, RecipeOptions options) => new RecipeFile(path, options).Read();

    private Recipe Read()
    {
        var name = Path.GetFileNameWithoutExtension(_path);
        _yaml.Known(_yaml.Root, Keys);
        ExpandAll(_yaml.Root);
        var from = Text(_yaml.Root, "from");
        if (from is null && _yaml.Root.At("from") is null)
            _yaml.Wrong(_yaml.Root, "it does not say what it begins with: 'from' is a disk, a folder or an image");
        var ready = Map("ready", ReadyKeys);
        var capture = Map("capture", CaptureKeys);
        if (capture is null)
            _yaml.Wrong(_yaml.Root, "it does not say what comes of it: 'capture' has the image's name");
        var imageName = capture is null ? null : Text(capture, "name");
        if (capture is not null && imageName is null)
            _yaml.Wrong(capture, "the image has no name");
        Checked(capture?.At("name"), () => Checks.ImageName(imageName ?? "image"));
        var version = capture is null ? "" : Text(capture, "version") ?? "";
        Checked(capture?.At("version"), () => Checks.VersionText(version));
        var archive = Archive();
        if (archive is null && capture is not null)
            _yaml.Wrong(capture, "it names no archive, and no project file does");
        var mark = Map("mark", MarkKeys);
        var recipe = new Recipe
        {
            Path = _path,
            Name = name,
            Title = Text(_yaml.Root, "title") ?? imageName ?? name,
            From = from is null ? "" : WholeSource(from),
            Prepare = Preparation(),
            ChecksReady = ready is null || Flag(ready, "check", otherwise: true),
            Rules = ready is not null && Text(ready, "rules") is { } rules ? Whole(rules) : null,
            Accept = ready is null ? [] : _yaml.Texts(ready.At("accept")),
            Archive = archive ?? "",
            ImageName = imageName ?? "",
            Version = version,
            Edition = capture is null ? null : Text(capture, "edition"),
            Note = capture is null ? "" : Text(capture, "note") ?? "",
            Effort = capture is not null && OneOf(capture, "effort", Efforts) is { } effort
                ? Enum.Parse<Effort>(effort, ignoreCase: true) : Effort.Balanced,
            LeaveOut = capture is null ? [] : _yaml.Texts(capture.At("leave-out")),
            Service = Orders(),
            Expect = [.. _yaml.Texts(_yaml.Root.At("expect")).Select(Whole)],
            Sign = Signature(),
            Channels = mark is null ? [] : ChannelsOf(mark.At("channel")),
            RetireBefore = mark is null ? null : Number(mark, "retire-before", 3650),
            Sync = _yaml.Texts(_yaml.Root.At("sync")),
            Keep = Number(_yaml.Root, "keep", 1000),
            Tell = Tells(),
            Variables = _variables.Known,
        };
        if (recipe.Keep == 0)
            _yaml.Wrong(_yaml.Root.At("keep")!, "at least one version is kept: the one that is made");
        if (recipe is { Prepare: not null, From.Length: > 0 } && (recipe.IsFromImage || Directory.Exists(recipe.From)))
            _yaml.Wrong(_yaml.Root.At("prepare")!, "only a disk can be prepared: a folder or an image has nothing to start");
        _yaml.Throw();
        return recipe with { Expanded = Expanded() };
    }

    private string Expanded()
    {
        using var writer = new StringWriter(CultureInfo.InvariantCulture);
        new YamlStream(new YamlDocument(_yaml.Root)).Save(writer, assignAnchors: false);
        return writer.ToString();
    }

    // In an order in which what built-in ones need is there: the source before its build, name and archive before the version.
    private void ExpandAll(YamlMappingNode root)
    {
        foreach (var key in (string[])["from", "capture", .. Keys.Where(k => k is not ("from" or "capture" or "variables"))])
        {
            if (root.At(key) is { } node)
                Fill(node);
        }
        if (root.At("variables") is { } own)
            Fill(own);
    }

    private void Fill(YamlNode node)
    {
        switch (node)
        {
            case YamlScalarNode { Value: { } text } scalar when text.Contains("${", StringComparison.Ordinal):
                scalar.Value = _variables.Expand(node, text);
                break;
            case YamlSequenceNode list:
                foreach (var item in list.Children)
                    Fill(item);
                break;
            case YamlMappingNode map:
                foreach (var value in map.Children.Values)
                    Fill(value);
                break;
        }
    }

    private string Build() =>
        _yaml.Root.At("from") is YamlScalarNode { Value: { Length: > 0 } from } node && _variables.Expand(node, from)
            is { Length: > 0 } text
            ? _options.BuildOf(WholeSource(text)) ?? "" : "";

    private string CaptureText(string key) => _yaml.Root.At("capture") is YamlMappingNode capture
        && capture.At(key) is YamlScalarNode { Value: { } text } node ? _variables.Expand(node, text) : "";

    private string? Archive() => CaptureText("archive") is { Length: > 0 } named ? Whole(named) : _options.Archive;

    private string Version() => CaptureText("version") is { Length: > 0 } own ? own
        : Archive() is { } archive && CaptureText("name") is { Length: > 0 } name ? _options.NextVersion(archive, name) : "";

    private string Whole(string text) => PlaceAddress.IsRemote(text) ? text : Path.GetFullPath(text, _folder);

    // "#NAME" and "NAME@CHANNEL" alone are images of the archive that the new one goes to.
    private string WholeSource(string text)
    {
        if (Path.Exists(Path.GetFullPath(text, _folder)))
            return Whole(text);
        var at = text.IndexOf('#', StringComparison.Ordinal);
        return at > 0 ? $"{Whole(text[..at])}{text[at..]}" : at == 0 ? $"{Archive()}{text}"
            : text.Contains('@', StringComparison.Ordinal) && !PlaceAddress.IsRemote(text) ? $"{Archive()}#{text}" : Whole(text);
    }

    private string? Text(YamlMappingNode map, string key)
    {
        if (map.At(key) is not { } node)
            return null;
        if (node is YamlScalarNode { Value: { Length: > 0 } text } && !text.Any(char.IsControl))
            return text;
        _yaml.Wrong(node, $"'{key}' is a text");
        return null;
    }

    private bool Flag(YamlMappingNode map, string key, bool otherwise)
    {
        if (map.At(key) is not { } node)
            return otherwise;
        if (node is YamlScalarNode { Value: "yes" or "true" or "no" or "false" } said)
            return said.Value is "yes" or "true";
        _yaml.Wrong(node, $"'{key}' is yes or no");
        return otherwise;
    }

    private string? OneOf(YamlMappingNode map, string key, IReadOnlyList<string> words)
    {
        if (Text(map, key) is not { } text)
            return null;
        if (words.Contains(text))
            return text;
        _yaml.Wrong(map.At(key)!, $"'{text}' is not one of {string.Join(", ", words)}");
        return null;
    }

    private int? Number(YamlMappingNode map, string key, int most)
    {
        if (map.At(key) is not { } node)
            return null;
        if (node is YamlScalarNode { Value: var text } && int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture,
            out var number)
            && number <= most)
            return number;
        _yaml.Wrong(node, $"'{key}' is a number up to {most}");
        return null;
    }

    private YamlMappingNode? Map(string key, IReadOnlyList<string> known)
    {
        switch (_yaml.Root.At(key))
        {
            case null:
                return null;
            case YamlMappingNode map:
                _yaml.Known(map, known);
                return map;
            case var other:
                _yaml.Wrong(other, $"'{key}' has parts: {string.Join(", ", known)}");
                return null;
        }
    }

    private void Checked(YamlNode? node, Action check)
    {
        try
        {
            check();
        }
        catch (VembarException problem) when (node is not null)
        {
            _yaml.Wrong(node, problem.Message);
        }
        catch (VembarException)
        {
            // That it is missing was said.
        }
    }

    private RecipePreparation? Preparation()
    {
        if (Map("prepare", PrepareKeys) is not { } map)
            return null;
        var limit = s_usualLimit;
        if (Text(map, "limit") is { } time && !YamlTime.TryParse(time, out limit))
            _yaml.Wrong(map.At("limit")!, $"'{time}' is not a time up to a day: 90 min or 3 h is wanted");
        if (map.At("run") is { } run)
        {
            foreach (var other in map.Children.Keys.OfType<YamlScalarNode>().Where(k => k.Value is not ("run" or "limit")))
                _yaml.Wrong(other, $"'{other.Value}' is a virtual machine's; 'run' is done without one");
            var words = _yaml.Texts(run);
            if (words.Count > 0 && !words.Exists(w => w.Contains(RecipePreparation.Disk, StringComparison.Ordinal)))
                _yaml.Wrong(run, $"the program is not told which disk: {RecipePreparation.Disk} stands for it");
            return new RecipePreparation(null, words, limit);
        }
        const long Least = 64L << 20;
        var usual = new VirtualMachineOptions();
        var memory = usual.Memory;
        if (Text(map, "memory") is { } size && (!ByteSize.TryParse(size, out memory) || memory < Least))
            _yaml.Wrong(map.At("memory")!, $"'{size}' is not a size like 4 GiB");
        var processors = Number(map, "processors", 256) ?? usual.Processors;
        if (processors == 0)
            _yaml.Wrong(map.At("processors")!, "a machine has a processor at least");
        return new RecipePreparation(usual with
        {
            Memory = memory,
            Processors = processors,
            Firmware = OneOf(map, "firmware", Firmwares) switch
            {
                "secure-boot" => MachineFirmware.SecureBoot,
                "bios" => MachineFirmware.Bios,
                _ => MachineFirmware.Uefi,
            },
            HasNetwork = Flag(map, "network", otherwise: false),
            IsEmulated = Flag(map, "emulate", otherwise: false),
            Files = [.. _yaml.Texts(map.At("files")).Select(Whole)],
            Answers = Text(map, "answers") is { } answers ? Whole(answers) : null,
            Medium = Text(map, "medium") is { } medium ? Whole(medium) : null,
        }, [], limit);
    }

    private List<RecipeOrder> Orders()
    {
        var orders = new List<RecipeOrder>();
        switch (_yaml.Root.At("service"))
        {
            case null:
                break;
            case YamlSequenceNode list:
                foreach (var item in list)
                    Order(item);
                break;
            case var one:
                Order(one);
                break;
        }
        return orders;

        void Order(YamlNode node)
        {
            if (node is YamlScalarNode { Value: { Length: > 0 } file })
                orders.Add(new RecipeOrder(Whole(file), new Dictionary<string, string>()));
            else if (node is YamlMappingNode map)
            {
                _yaml.Known(map, ["order", "set"]);
                var set = map.At("set") is YamlMappingNode given && given.Children.All(c => c is
                {
                    Key: YamlScalarNode,
                    Value: YamlScalarNode
                })
                    ? given.Children.ToDictionary(c => ((YamlScalarNode)c.Key).Value!, c => ((YamlScalarNode)c.Value).Value ?? "") : [];
                if (map.At("set") is { } wrong and not YamlMappingNode)
                    _yaml.Wrong(wrong, "'set' gives the order's variables their texts");
                if (Text(map, "order") is { } named)
                    orders.Add(new RecipeOrder(Whole(named), set));
                else if (map.At("order") is null)
                    _yaml.Wrong(map, "'order' names the work order");
            }
            else
                _yaml.Wrong(node, "a work order is wanted: its file, or 'order' and 'set'");
        }
    }

    private RecipeSignature? Signature()
    {
        if (Map("sign", ["key", "certificate"]) is not { } map)
            return null;
        if (Text(map, "key") is { } key && Text(map, "certificate") is { } certificate)
            return new RecipeSignature(Whole(key), Whole(certificate));
        _yaml.Wrong(map, "who signs has a 'key' and a 'certificate'");
        return null;
    }

    private List<string> ChannelsOf(YamlNode? node)
    {
        var channels = _yaml.Texts(node);
        foreach (var channel in channels.Where(c => !MarkHandler.IsChannelName(c)))
            _yaml.Wrong(node!, $"'{channel}' cannot be a channel: letters, digits, '-' and '_', a letter first");
        return channels;
    }

    private List<RecipeTell> Tells()
    {
        var tells = new List<RecipeTell>();
        var node = _yaml.Root.At("tell");
        foreach (var item in node is YamlSequenceNode list ? list.Children : node is null ? [] : [node])
        {
            if (item is not YamlMappingNode map)
            {
                _yaml.Wrong(item, "who is told is 'run', a program, or 'post', an address");
                continue;
            }
            _yaml.Known(map, ["run", "post"]);
            var run = _yaml.Texts(map.At("run"));
            var post = Text(map, "post");
            if (post is not null && (!PlaceAddress.IsWeb(post) || !Uri.TryCreate(post, UriKind.Absolute, out _)))
                _yaml.Wrong(map.At("post")!, $"'{post}' is not an address: https://HOST/… is wanted");
            if (run.Count == 0 == post is null)
                _yaml.Wrong(map, "either 'run' or 'post' is wanted");
            else
                tells.Add(new RecipeTell(run, post));
        }
        return tells;
    }
}
