using System.Globalization;
using Vembar.Cli.Tests;

/// <summary>nginx and a registry on loopback, for as long as archives there are measured.</summary>
internal sealed class PlaceServers : IDisposable
{
    private readonly LoopbackServers _servers = new();

    /// <param name="folder">What the web server serves, and where both keep theirs.</param>
    public PlaceServers(string folder)
    {
        var (web, registry) = (LoopbackServers.Port(), LoopbackServers.Port());
        Web = string.Create(CultureInfo.InvariantCulture, $"http://127.0.0.1:{web}");
        Registry = string.Create(CultureInfo.InvariantCulture, $"oci://127.0.0.1:{registry}");
        _servers.StartWeb(folder, string.Create(CultureInfo.InvariantCulture, $"server {{ listen 127.0.0.1:{web}; root {folder}; }}"));
        LoopbackServers.WaitFor(web);
        _servers.StartRegistry(folder, registry);
    }

    public string Web { get; }

    public string Registry { get; }

    public void Dispose() => _servers.Dispose();
}
