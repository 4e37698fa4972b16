using System.CommandLine;
using Vembar.Cli.Json;
using Vembar.Windows.Servicing.Packages;

namespace Vembar.Cli.Commands.Packages;

internal static class PackageCommand
{
    public static VembarCommand Create()
    {
        var command = new VembarCommand("package",
            "Make, check and look at packages: files, registry, features and commands that go into images together",
            "vembar package make vembar-demo/packages/shelfmark-7.4 --out shelfmark-7.4.zip", "vembar package check shelfmark-7.4.zip",
            "vembar package show shelfmark-7.4.zip --json");
        var folder = new Argument<string>("DIR") { Description = "A folder with a package.yaml and the package's files" };
        var to = new Option<string?>("--out")
        {
            Description = "The zip file to write; otherwise NAME-VERSION.zip beside the folder",
            HelpName = "FILE",
        };
        command.Subcommands.Add(new VembarCommand("make", "Write the hashes of a package's files into its manifest, and all into one zip "
            + "file", "vembar package make vembar-demo/packages/shelfmark-7.4").With(folder, to).Does((parse, session) =>
        {
            var from = parse.GetRequiredValue(folder);
            var manifest = Package.Read(from).Manifest;
            var zip = parse.GetValue(to) ?? Path.Combine(Path.GetDirectoryName(Path.GetFullPath(from))!,
                $"{manifest.Name}-{PackageManifest.Show(manifest.Version)}.zip");
            if (session.MayOverwrite && Path.Exists(zip))
                Overwriting.Check(zip, parse);
            var made = Package.Make(from, zip, session.MayOverwrite);
            session.Result(CliJson.From(made, []) with
            {
                Package = zip,
            }, json => json.PackageInfoJson,
            () => Session.Line($"{zip}: {made.Manifest.Title} {PackageManifest.Show(made.Manifest.Version)}, "
                + $"{Text.Count(made.Manifest.Hashes.Count, "file")}, {Text.Size(new FileInfo(zip).Length)}."));
            return ExitCode.Done;
        }));
        command.Subcommands.Add(new VembarCommand("check", "Check a package: its manifest, and every file against its hash",
            "vembar package check shelfmark-7.4.zip").With(PackageFile()).Does((parse, session) => Look(parse, session, check: true)));
        command.Subcommands.Add(new VembarCommand("show", "Show what a package is and brings",
            "vembar package show shelfmark-7.4.zip").With(PackageFile()).Does((parse, session) => Look(parse, session, check: false)));
        return command;
    }

    private static Argument<string> PackageFile() => new("FILE") { Description = "A package: a folder or a zip file" };

    private static int Look(ParseResult parse, Session session, bool check)
    {
        var package = Package.Read(parse.GetRequiredValue<string>("FILE"));
        IReadOnlyList<string> problems = check ? [.. package.Problems().Select(AdviceText.Of)] : [];
        var manifest = package.Manifest;
        session.Result(CliJson.From(package, problems), json => json.PackageInfoJson, () =>
        {
            if (check)
            {
                foreach (var problem in problems)
                    Session.Line(problem);
                Session.Line(problems.Count == 0
                    ? $"{package.DisplayName} is whole: {manifest.Title} {PackageManifest.Show(manifest.Version)}, "
                    + $"{Text.Count(manifest.Hashes.Count, "file")}."
                    : $"{package.DisplayName} is not in order: {Text.Count(problems.Count, "problem")}.");
                return;
            }
            Fields.Print(session,
                ("package", $"{manifest.Name} {PackageManifest.Show(manifest.Version)}"), ("title", manifest.Title),
                ("kind", CliJson.KindOf(manifest)),
                ("for", string.Join("; ", new[] { string.Join(", ", manifest.Architectures),
                manifest.LeastBuild > 0 || manifest.LastBuild < int.MaxValue
                ? $"builds {manifest.LeastBuild} to {(manifest.LastBuild < int.MaxValue ? manifest.LastBuild : "any")}"
                : "", string.Join(", ", manifest.Editions), string.Join(", ", manifest.Languages) }.Where(t => t.Length > 0))),
                ("needs", string.Join(", ", manifest.Requires)), ("replaces", string.Join(", ", manifest.Replaces)),
                ("conflicts", string.Join(", ", manifest.Conflicts)),
                ("features", string.Join(", ", manifest.Features.Select(f => f.IsOn ? $"{f.Name} (on)" : f.Name))),
                ("files", Text.Number(manifest.Hashes.Count)),
                ("registry", string.Join(", ", package.Parts.SelectMany(p => p.Registry))),
                ("removes", string.Join(", ", package.Parts.SelectMany(p => p.Remove))),
                ("first start", string.Join(", ", package.Parts.SelectMany(p => p.FirstStart).Select(c => c.Name))));
            if (manifest.Hashes.Count == 0)
                return;
            Session.Line();
            var table = new Table("Path in the image", "From");
            foreach (var (from, target, _) in manifest.Laid(package.Parts))
                table.Row(target, from);
            table.Print(session);
        });
        return problems.Count == 0 ? ExitCode.Done : ExitCode.NotInOrder;
    }
}
