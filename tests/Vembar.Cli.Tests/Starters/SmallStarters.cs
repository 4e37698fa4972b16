using Vembar.Cli.Tests.Stations;

namespace Vembar.Cli.Tests.Starters;

/// <summary>Two starters that nothing starts from: 1 is in use, 2 is tried.</summary>
internal static class SmallStarters
{
    public static void Make(RunningStation station)
    {
        foreach (var version in (string[])["1", "2"])
        {
            Directory.CreateDirectory(station.At($"starters/{version}"));
            File.WriteAllText(station.At($"starters/{version}/vmlinuz"), "kernel");
            File.WriteAllText(station.At($"starters/{version}/initial.img"), "files");
            File.WriteAllText(station.At($"starters/{version}/starter.json"), $$"""
                {
                  "format": 1, "name": "small", "version": "{{version}}", "kernel": "6", "modules": [], "loaders": [], "firmware": [],
                  "models": [], "packages": [], "firmwareOf": {},
                  "files": [{ "name": "vmlinuz", "bytes": 6, "sha256": "" }, { "name": "initial.img", "bytes": 5, "sha256": "" }]
                }
                """);
        }
        station.Ok("starter", "use", station.At("starters/1"));
        station.Ok("starter", "use", station.At("starters/2"), "--channel", "pilot");
    }
}
