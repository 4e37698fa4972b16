using Vembar.Common;
using Vembar.Operations.Builds;
using Xunit;

namespace Vembar.Tests.Operations;

/// <summary>Recipes: what they say, and every mistake with its line.</summary>
public sealed class RecipeTests : IDisposable
{
    private readonly TempFolder _folder = new();

    private Recipe Read(string text, IReadOnlyDictionary<string, string>? set = null)
    {
        File.WriteAllText(_folder.At("desk.yaml"), text);
        return RecipeFile.Read(_folder.At("desk.yaml"), new RecipeOptions
        {
            Today = new DateOnly(2026, 11, 27),
            Variables = set ?? new Dictionary<string, string>(),
            BuildOf = from => from.EndsWith("disk.raw", StringComparison.Ordinal) ? "26100.1" : null,
            NextVersion = (_, name) => $"next of {name}",
        });
    }

    private string Problem(string text, IReadOnlyDictionary<string, string>? set = null)
    {
        var problem = Assert.Throws<VembarException>(() => Read(text, set));
        Assert.Equal("bad-recipe", problem.Code);
        return string.Join('\n', problem.Details.Append(problem.Message));
    }

    private const string Least = "from: disk.raw\ncapture: {archive: a.vmb, name: Desk}\n";

    [Fact]
    public void WhatARecipeSaysIsRead()
    {
        var recipe = Read("""
            title: Desk of ${branch}
            variables: {branch: Staithe, kind: "${branch}-${week}"}
            from: disk.raw
            prepare: {memory: 2 GiB, processors: 4, firmware: secure-boot, network: yes, limit: 90 min, files: [inside], answers: a.xml}
            ready: {rules: rules.yaml, accept: [machine-guid]}
            capture: {archive: a.vmb, name: "Desk ${branch}", version: "${year}.${month}", note: "${build} ${kind} $${kept}", effort: dense}
            service: [one.yaml, {order: two.yaml, set: {site: "${branch}"}}]
            expect: e.yaml
            sign: {key: k.pem, certificate: c.pem}
            mark: {channel: [pilot], retire-before: 30}
            sync: all
            keep: 6
            tell: [{run: [./told.sh, "${version}"]}, {post: "https://chat.tarnvalley.example/x"}]
            """);
        Assert.Equal(("Desk of Staithe", "Desk Staithe", "2026.11", "26100.1 Staithe-48 ${kept}"), (recipe.Title, recipe.ImageName,
            recipe.Version, recipe.Note));
        Assert.Equal((_folder.At("disk.raw"), _folder.At("a.vmb"), _folder.At("rules.yaml")), (recipe.From, recipe.Archive, recipe.Rules!));
        Assert.Equal((2L << 30, 4, true, TimeSpan.FromMinutes(90)), (recipe.Prepare!.Machine!.Memory, recipe.Prepare.Machine.Processors,
            recipe.Prepare.Machine.HasNetwork, recipe.Prepare.Limit));
        Assert.Equal("Staithe", recipe.Service[1].Variables["site"]);
        Assert.Equal(["./told.sh", "2026.11"], recipe.Tell[0].Run);
        Assert.Equal((30, 6), (recipe.RetireBefore, recipe.Keep));
        Assert.Contains("Desk Staithe", recipe.Expanded, StringComparison.Ordinal);
        Assert.Equal($"{_folder.At("a.vmb")}#Desk@production",
            Read("from: Desk@production\ncapture: {archive: a.vmb, name: Desk}\n").From);
        Assert.Equal("next of Desk", Read($"{Least}tell: {{run: [x, \"${{version}}\"]}}").Tell[0].Run[1]);
        Assert.Equal("Annex", Read($"title: ${{b}}\nvariables: {{b: Staithe}}\n{Least}", new Dictionary<string,
            string>
        { ["b"] = "Annex" }).Title);
    }

    [Theory]
    [InlineData("nonsense: 1\n", "'nonsense'")]
    [InlineData("title: ${nobody}\n", "there is no variable 'nobody'")]
    [InlineData("variables: {a: '${b}', b: '${a}'}\ntitle: ${a}\n", "leads back to itself")]
    [InlineData("variables: {version: x}\n", "built in")]
    [InlineData("prepare: {limit: soon}\n", "'soon' is not a time")]
    [InlineData("prepare: {memory: 1 KiB}\n", "'1 KiB' is not a size")]
    [InlineData("prepare: {run: [make-ready]}\n", "{disk}")]
    [InlineData("prepare: {run: ['x', '{disk}'], memory: 4 GiB}\n", "'memory' is a virtual machine's")]
    [InlineData("prepare: {firmware: ours}\n", "'ours' is not one of")]
    [InlineData("keep: 0\n", "at least one")]
    [InlineData("mark: {channel: 'new one'}\n", "cannot be a channel")]
    [InlineData("tell: {post: 'file:///etc/passwd'}\n", "is not an address")]
    [InlineData("tell: {run: x, post: 'https://a.example'}\n", "either")]
    [InlineData("service: [{set: {a: b}}]\n", "'order'")]
    [InlineData("sign: {key: k}\n", "'certificate'")]
    public void MistakesAreTold(string text, string said) => Assert.Contains(said, Problem(Least + text), StringComparison.Ordinal);

    [Theory]
    [InlineData("capture: {archive: a.vmb, name: Desk}\n", "'from'")]
    [InlineData("from: disk.raw\n", "'capture'")]
    [InlineData("from: disk.raw\ncapture: {name: Desk}\n", "no archive")]
    [InlineData("from: disk.raw\ncapture: {archive: a.vmb, name: '7'}\n", "cannot be a name")]
    [InlineData("from: disk.raw\ncapture: {archive: a.vmb, name: D, version: 'a@b'}\n", "'@'")]
    [InlineData("from: disk.raw\ncapture: {archive: a.vmb, name: D, version: '${version}'}\n", "leads back to itself")]
    [InlineData("from: 'disk-${build}'\ncapture: {archive: a.vmb, name: D}\n", "leads back to itself")]
    [InlineData("from: a.vmb#D\nprepare: {memory: 1 GiB}\ncapture: {archive: a.vmb, name: D}\n", "only a disk")]
    public void WhatIsMissingIsTold(string text, string said) => Assert.Contains(said, Problem(text), StringComparison.Ordinal);

    // What is said of a form is what is taken.
    [Fact]
    public void TheSchemaKnowsAllThatIsRead()
    {
        var schema = System.Text.Json.Nodes.JsonNode.Parse(RecipeSchema.Text())!;
        Assert.Equal(RecipeFile.Keys.Order(StringComparer.Ordinal),
            schema["properties"]!.AsObject().Select(p => p.Key).Order(StringComparer.Ordinal));
        foreach (var (key, known) in ((string, IReadOnlyList<string>)[])[("prepare", RecipeFile.PrepareKeys), ("capture",
            RecipeFile.CaptureKeys),
            ("ready", RecipeFile.ReadyKeys), ("mark", RecipeFile.MarkKeys)])
            Assert.Equal(known.Order(StringComparer.Ordinal),
                schema["properties"]![key]!["properties"]!.AsObject().Select(p => p.Key).Order(StringComparer.Ordinal));
    }

    public void Dispose() => _folder.Dispose();
}
