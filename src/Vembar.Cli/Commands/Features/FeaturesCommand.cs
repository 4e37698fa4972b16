using Vembar.Cli.Json;
using Vembar.Common;
using Vembar.Operations.Show;

namespace Vembar.Cli.Commands.Features;

internal static class FeaturesCommand
{
    public static VembarCommand Create()
    {
        var image = SharedOptions.Image();
        return new VembarCommand("features", "List the features that packages brought into an image, and which are on",
            "vembar features desks.vmb#1", "vembar features desks.vmb#\"Reading room\" --json")
            .With(image, SharedOptions.Base, SharedOptions.AtState).Does(async (parse, session) =>
            {
                var result = await session.Do(new ShowHandler(session.Host), new ShowRequest(SharedOptions.ImageOf(parse, image, session)));
                var features = CliJson.Features(result.Packages)
                    ?? throw VembarException.Input("no-windows", $"image {result.Image.Number} holds no Windows",
                    "Features are parts of packages in a Windows image.");
                session.Result(new FeaturesJson(result.Image, features), json => json.FeaturesJson, () =>
                {
                    if (features.Count == 0)
                    {
                        Session.Line("No package in this image brings features.");
                        return;
                    }
                    var table = new Table("Name", "State", "Title", "Package");
                    foreach (var feature in Tree(features))
                        table.Row(Row(feature, features));
                    table.Print(session);
                });
                return ExitCode.Done;
            });
    }

    /// <summary>A feature's row, moved in by as many steps as it has parents.</summary>
    public static string[] Row(FeatureJson feature, IReadOnlyList<FeatureJson> all)
    {
        var depth = 0;
        const int Deepest = 20;
        for (var at = feature; at is { Parent.Length: > 0 }
            && depth < Deepest; at = all.FirstOrDefault(f => f.Name.Equals(at.Parent, StringComparison.OrdinalIgnoreCase)))
            depth++;
        return [$"{new string(' ', 2 * depth)}{feature.Name}", feature.On ? "on" : "off", feature.Title, feature.Package];
    }

    // Parents before those that need them.
    public static IEnumerable<FeatureJson> Tree(IReadOnlyList<FeatureJson> all, string parent = "")
    {
        foreach (var feature in all.Where(f => parent.Length > 0 ? f.Parent.Equals(parent, StringComparison.OrdinalIgnoreCase)
            : f.Parent.Length == 0 || !all.Any(o => o.Name.Equals(f.Parent, StringComparison.OrdinalIgnoreCase))))
        {
            yield return feature;
            foreach (var child in Tree(all, feature.Name))
                yield return child;
        }
    }
}
