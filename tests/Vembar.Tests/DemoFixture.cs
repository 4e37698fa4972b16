using Vembar.Demo;
using Vembar.Tests;
using Vembar.Windows.Servicing.Drivers;
using Xunit;

[assembly: AssemblyFixture(typeof(DemoFixture))]

namespace Vembar.Tests;

/// <summary>The demo's world, made once for all tests; they only read it.</summary>
public sealed class DemoFixture : IDisposable
{
    private readonly TempFolder _folder = new();

    public DemoFixture()
    {
        DemoWorld.Make(_folder.Path, 1, CancellationToken.None);
        Archive = _folder.At("desk.vmb");
        Do.Capture(Reference("lending-desk"), Archive, "Lending desk");
    }

    /// <summary>An archive with the lending desk as image 1. Tests that write take a copy.</summary>
    public string Archive { get; }

    public string Reference(string edition) => _folder.At($"references/{edition}");

    public string Driver(string name) => _folder.At($"drivers/{name}");

    /// <summary>Adds drivers; who signed the demo's is trusted.</summary>
    public DriverChange Add(params string[] paths) => new(paths, new DriverOptions { Trust = Trust });

    public DriverTrust Trust => DriverTrust.Load([At("trust")]);

    public string At(string path) => _folder.At(path);

    public string CopyArchive(TempFolder to)
    {
        var copy = to.At("desk.vmb");
        File.Copy(Archive, copy);
        return copy;
    }

    public void Dispose() => _folder.Dispose();
}
