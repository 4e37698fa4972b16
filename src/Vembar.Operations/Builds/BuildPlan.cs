using System.Globalization;
using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Native;
using Vembar.Operations.Project;
using Vembar.Store.Reading;
using Vembar.Windows.Servicing.Orders;

namespace Vembar.Operations.Builds;

/// <summary>The steps of a build, what each depends on, and what need not be done again.</summary>
internal sealed class BuildPlan
{
    private readonly OperationHost _host;
    private readonly BuildRequest _request;
    private readonly List<BuildState> _earlier;
    private readonly BuildState? _good;
    private (string From, string Print)? _source;

    public BuildPlan(OperationHost host, BuildRequest request, Recipe recipe)
    {
        (_host, _request, Recipe) = (host, request, recipe);
        // Two recipes of the same name in different folders are filed together, and are not the same.
        _earlier = [.. BuildRun.Of(request.Builds, recipe.Name).Select(r => r.Read()).OfType<BuildState>()
            .Where(s => s.Recipe == recipe.Path)];
        _good = _earlier.Find(s => s is { Outcome: BuildOutcome.Done or BuildOutcome.Partly, Image: not null });
    }

    /// <summary>The recipe, with its version.</summary>
    public Recipe Recipe { get; private set; }

    /// <summary>The version that the image gets.</summary>
    public string Version { get; private set; } = "";

    /// <summary>The steps, with what they depend on.</summary>
    public IReadOnlyList<BuildStep> Steps { get; private set; } = [];

    /// <summary>The image that an earlier run made of the same, and which is still there; null where it has to be made.</summary>
    public ImageRecord? Reused { get; private set; }

    /// <summary>The last step whose image was kept by an earlier run, so that it is made anew from there on; null for none.</summary>
    public int? Start { get; private set; }

    /// <summary>What an earlier run kept.</summary>
    public KeptSteps Kept => new(_host, Path.Combine(_request.Builds, Recipe.Name), Recipe);

    /// <summary>The orders, read.</summary>
    public IReadOnlyList<WorkOrder> Orders { get; private set; } = [];

    /// <summary>The sites that get it.</summary>
    public IReadOnlyList<Site> Sites { get; private set; } = [];

    /// <summary>What would be done.</summary>
    public BuildResult Show()
    {
        Choose(null);
        Check(isResumed: false);
        return new BuildResult(new BuildState
        {
            Recipe = Recipe.Path,
            Name = Recipe.Name,
            Run = "",
            Title = Recipe.Title,
            Archive = Recipe.Archive,
            ImageName = Recipe.ImageName,
            Version = Version,
            Image = Reused?.Number,
            BytesAdded = _good?.BytesAdded ?? 0,
            Steps = Steps,
        }, null, null, false)
        { Usual = [.. Steps.Select(Usual)], Free = Posix.FreeBytes(NearestFolder(Path.GetFullPath(_request.Builds))) };
    }

    private static string NearestFolder(string path) => Directory.Exists(path) ? path : NearestFolder(Path.GetDirectoryName(path) ?? "/");

    /// <summary>How long a step took in earlier runs, in seconds: the median; -1 where that is not known.</summary>
    public double Usual(BuildStep step)
    {
        var times = _earlier.SelectMany(s => s.Steps).Where(s => s.State == BuildStepState.Done && s.Name == step.Name
            && s.What == step.What)
            .Select(s => s.Seconds).Order().ToList();
        return times.Count > 0 ? times[times.Count / 2] : -1;
    }

    /// <summary>Settles the version, and what of an earlier run is used again.</summary>
    /// <param name="resumed">The run that is gone on with; null for a new one.</param>
    public void Choose(BuildState? resumed)
    {
        if (resumed is null && _good is not null)
        {
            // Whether it is the same is asked with the version that it was made with.
            Recipe = _request.Read(_good.Version);
            Read();
            Steps = StepsOf();
            Reused = FindReused(_good);
        }
        if (Reused is not null)
            Version = Reused.Version;
        else
        {
            Version = resumed?.Version ?? (_request.Read(null) is { Version.Length: > 0 } given ? given.Version
                : Checks.NextVersion(Recipe.Archive, Recipe.ImageName, _host));
            Recipe = _request.Read(Version);
            Read();
            Steps = StepsOf();
        }
        if (Reused is null)
        {
            if (resumed is null)
                Begin();
            return;
        }
        Steps = [.. Steps.Select(step => IsMaking(step) || WasDone(step) ? step with { State = BuildStepState.Reused } : step)];
        if (Steps.All(s => s.State == BuildStepState.Reused || s.Name == BuildStepName.Tell))
            Steps = [.. Steps.Select(s => s.Name == BuildStepName.Tell ? s with
            {
                State = BuildStepState.Skipped,
                Outcome = "nothing changed",
            } : s)];
    }

    // What comes before a step that is kept need not be done either.
    private void Begin()
    {
        var kept = Kept.Find([.. Steps.Where(s => IsMaking(s) && s.Name != BuildStepName.Prepare).Select(s => s.Inputs)]);
        Start = Steps.ToList().FindLastIndex(s => kept.Contains(s.Inputs)) is >= 0 and var at ? at : null;
        Steps = [.. Steps.Select((s, i) => i <= Start && (IsMaking(s) || WasDone(s)) ? s with { State = BuildStepState.Reused } : s)];
    }

    private bool WasDone(BuildStep step) =>
        step.Name != BuildStepName.Tell && _good is not null && _good.Steps.Any(s => s.IsThere && Is(s, step));

    private static bool Is(BuildStep one, BuildStep other) => one.Name == other.Name && one.What == other.What
        && one.Inputs == other.Inputs;

    private static bool IsMaking(BuildStep step) =>
        step.Name is BuildStepName.Prepare or BuildStepName.Capture or BuildStepName.Service;

    private ImageRecord? FindReused(BuildState good)
    {
        var (now, before) = (Steps.Where(IsMaking).ToList(), good.Steps.Where(IsMaking).ToList());
        if (now.Count != before.Count || !now.Zip(before).All(p => Is(p.First, p.Second)) || good.Archive != Recipe.Archive
            || !_host.Files.Exists(Recipe.Archive))
            return null;
        using var archive = ArchiveReader.Open(Recipe.Archive, _host.Files);
        return ImageAddition.Find(archive, Recipe.ImageName, good.Version) is { } image && image.Root.ToString() == good.Root ? image
            : null;
    }

    private void Read()
    {
        Orders = [.. Recipe.Service.Select(o => WorkOrder.Read(o.File, new OrderOptions { Trust = _request.Trust,
            Variables = o.Variables }))];
        var wanted = Recipe.Sync is ["all"] ? [.. _request.Sites] : Recipe.Sync.Select(name =>
            _request.Sites.FirstOrDefault(s => s.Name.Equals(name, StringComparison.OrdinalIgnoreCase))
            ?? throw VembarException.Input("no-such-site",
                $"'{Recipe.Path}' brings the image to '{name}', which is no site of the project file",
                _request.Sites.Count > 0 ? $"It has {string.Join(", ", _request.Sites.Select(s => s.Name))}."
                : "There is no project file with sites.")).ToList();
        Sites = wanted;
    }

    /// <summary>Looks at what can be told before anything is done.</summary>
    /// <param name="isResumed">Whether a run is gone on with, which may have added the image already.</param>
    /// <exception cref="VembarException">Something is in the way.</exception>
    public void Check(bool isResumed)
    {
        var problems = new List<VembarException>();
        void Try(Action look) => Checks.Collect(problems, () =>
        {
            look();
            return "";
        });
        if (!Recipe.IsFromImage && !Path.Exists(Recipe.From))
            problems.Add(VembarException.Input("no-source", $"there is no '{Recipe.From}', from which '{Recipe.Name}' is made",
                "Check 'from' in the recipe."));
        foreach (var file in ((string?[])[Recipe.Rules, .. Recipe.Expect, Recipe.Sign?.Key, Recipe.Sign?.Certificate,
            Recipe.Prepare?.Machine?.Answers, Recipe.Prepare?.Machine?.Medium, .. Recipe.Prepare?.Machine?.Files ?? []])
            .OfType<string>().Where(f => !Path.Exists(f)))
            problems.Add(VembarException.Input("no-such-file", $"there is no '{file}', which '{Recipe.Path}' names", "Check the path."));
        foreach (var channel in Recipe.Channels.Where(c => _request.KnownChannels.Count > 0
            && !_request.KnownChannels.Contains(c, StringComparer.OrdinalIgnoreCase)))
            problems.Add(VembarException.Input("bad-channel", $"the project file has no channel '{channel}', which '{Recipe.Path}' names",
                $"It has {string.Join(", ", _request.KnownChannels)}."));
        if (Directory.Exists(Recipe.From) && IsBelow(_request.Builds, Recipe.From))
            problems.Add(VembarException.Input("runs-in-source", $"the runs would lie in '{Recipe.From}', which is captured",
                "Keep the runs elsewhere."));
        if (!Recipe.IsFromImage && SamePath(Recipe.From, Recipe.Archive))
            problems.Add(VembarException.Input("source-is-archive", $"'{Recipe.From}' is both what the image is made of and where it goes",
                "Check 'from' and 'archive' in the recipe."));
        // What was read may be followed by another state of the file.
        if (Reused is null && !isResumed && problems.Count == 0)
            Try(() => Checks.CanAddTo(_host, Recipe.Archive, Recipe.ImageName, Version));
        Checks.Throw(problems);
    }

    private static bool SamePath(string one, string other) => Path.GetFullPath(one) == Path.GetFullPath(other);

    private static bool IsBelow(string path, string folder) =>
        $"{Path.GetFullPath(path)}/".StartsWith($"{Path.GetFullPath(folder).TrimEnd('/')}/", StringComparison.Ordinal);

    // Looked at once, so that all steps are meant from the same.
    private string Source()
    {
        if (_source is { } known && known.From == Recipe.From)
            return known.Print;
        _source = (Recipe.From, Print());
        return _source.Value.Print;
    }

    private string Print()
    {
        // A device is taken for another one each time.
        if (!Recipe.IsFromImage)
            return Fingerprint.OfSource(Recipe.From) ?? $"{Guid.NewGuid()}";
        var reference = ImageReference.Parse(Recipe.From);
        using var archive = ArchiveReader.Open(reference.Archive, _host.Files);
        return archive.Find(reference.Which, _host.Clock).Root.ToString();
    }

    private static string Number(object? value) => Convert.ToString(value, CultureInfo.InvariantCulture) ?? "";

    private List<BuildStep> StepsOf()
    {
        var steps = new List<BuildStep>();
        void Add(string name, string what, string inputs) => steps.Add(new BuildStep { Name = name, What = what, Inputs = inputs });
        var content = Source();
        if (Recipe.Prepare is { } prepare)
        {
            var machine = prepare.Machine;
            content = Fingerprint.Of(["prepare", content, .. prepare.Run, Number(machine?.Memory), Number(machine?.Processors),
                Number(machine?.Firmware), Number(machine?.HasNetwork), .. (machine?.Files ?? []).Append(machine?.Answers ?? "")
                .Append(machine?.Medium ?? "").Select(Fingerprint.OfFiles)]);
            Add(BuildStepName.Prepare, machine is null ? Path.GetFileName(prepare.Run[0]) : "a copy in a virtual machine", content);
        }
        if (Recipe is { ChecksReady: true, IsFromImage: false })
            Add(BuildStepName.Ready, "", Fingerprint.Of([content, Fingerprint.OfFiles(Recipe.Rules ?? ""), .. Recipe.Accept]));
        content = Fingerprint.Of(["capture", content, Recipe.Archive, Recipe.ImageName, Recipe.Version, Recipe.Edition ?? "", Recipe.Note,
            Number(Recipe.Effort), .. Recipe.LeaveOut]);
        Add(BuildStepName.Capture, Recipe.IsFromImage ? Recipe.From : Path.GetFileName(Recipe.From), content);
        foreach (var (order, read) in Recipe.Service.Zip(Orders))
        {
            content = Fingerprint.Of(["service", content, .. order.Variables.OrderBy(v => v.Key, StringComparer.Ordinal)
                .Select(v => $"{v.Key}={v.Value}"), Fingerprint.OfFiles(order.File), .. read.Files.Select(f => Fingerprint.OfFiles(f.Path)),
                .. _request.Trust.Select(Fingerprint.OfFiles)]);
            Add(BuildStepName.Service, Path.GetFileName(order.File), content);
        }
        foreach (var file in Recipe.Expect)
            Add(BuildStepName.Expect, Path.GetFileName(file), Fingerprint.Of(content, Fingerprint.OfFiles(file)));
        var signed = content;
        if (Recipe.Sign is { } sign)
        {
            signed = Fingerprint.Of(content, Fingerprint.OfFiles(sign.Key), Fingerprint.OfFiles(sign.Certificate));
            Add(BuildStepName.Sign, Path.GetFileName(sign.Certificate), signed);
        }
        var added = Fingerprint.Of([signed, Number(Recipe.Keep), Number(Recipe.RetireBefore), .. Recipe.Channels]);
        Add(BuildStepName.Add, Path.GetFileName(Recipe.Archive), added);
        foreach (var site in Sites)
            Add(BuildStepName.Sync, site.Name, Fingerprint.Of([added, site.Place, Number(site.Newest), .. site.Channels, .. site.Names]));
        foreach (var tell in Recipe.Tell)
            Add(BuildStepName.Tell, tell.What, "");
        return steps;
    }
}
