using Vembar.Cli.Tests;
using Vembar.Tests;
using Xunit;

[assembly: AssemblyFixture(typeof(ToldDemo))]

namespace Vembar.Cli.Tests;

/// <summary>What the demo leaves behind, told once for all that goes on from there.</summary>
public sealed class ToldDemo : IDisposable
{
    private readonly TempFolder _folder = new();
    private readonly Lazy<Ran> _told;

    public ToldDemo() => _told = new Lazy<Ran>(() => Vembar.Run("demo", Path));

    /// <summary>Its folder.</summary>
    public string Path => _folder.At("vembar-demo");

    /// <summary>What it said; tells it where that has not been done.</summary>
    public Ran Told => _told.Value;

    public void Dispose() => _folder.Dispose();
}
