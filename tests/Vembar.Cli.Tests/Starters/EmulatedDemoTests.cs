using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests.Starters;

/// <summary>The demo's second part, with a machine under software emulation.</summary>
[Trait("Set", "Slow")]
public sealed class EmulatedDemoTests
{
    // The demo's own: made, switched on, approved, and looked at, in one command.
    [Fact]
    public void TheDemoSwitchesOneOn()
    {
        EmulatedStarter.DemandPackages();
        // Whether there can be such a network at all.
        new EmulatedNetwork().Dispose();
        using var folder = new TempFolder();
        var told = Vembar.Run("demo", folder.At("network"), "--network", "--emulated", "--json");
        Assert.True(told.Code == 0, told.Error + told.Output);
        var checks = told.Json.GetProperty("checks").EnumerateArray().Select(c => c.GetProperty("what").GetString()).ToList();
        Assert.Contains("it has its image", checks);
        Assert.Equal(2, Vembar.Run("demo", folder.At("other"), "--emulated").Code);
    }
}
