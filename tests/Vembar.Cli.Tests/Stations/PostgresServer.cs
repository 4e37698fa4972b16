using System.Diagnostics;
using System.Globalization;
using Vembar.Cli.Tests.Stations;
using Vembar.Tests;
using Xunit;

[assembly: AssemblyFixture(typeof(PostgresServer))]

namespace Vembar.Cli.Tests.Stations;

/// <summary>A PostgreSQL of Debian's on a socket of its own, started when the first test wants a database.</summary>
public sealed class PostgresServer : IDisposable
{
    private readonly TempFolder _folder = new();
    private readonly Lock _gate = new();
    private Process? _process;
    private int _made;

    // It does not run as root.
    private static string[] As(params string[] command) =>
        Environment.UserName == "root" ? ["setpriv", "--reuid=postgres", "--regid=postgres", "--clear-groups", .. command] : command;

    private static string Program(string name) =>
        Directory.EnumerateDirectories("/usr/lib/postgresql").Select(v => $"{v}/bin/{name}").Order(StringComparer.Ordinal)
        .Last(File.Exists);

    private static void Run(params string[] command) => Tools.Run(command[0], command[1..]);

    /// <summary>Makes an empty database.</summary>
    /// <returns>Its address.</returns>
    public string Database()
    {
        lock (_gate)
        {
            Start();
            var name = string.Create(CultureInfo.InvariantCulture, $"station{++_made}");
            Run(As(Program("createdb"), "-h", _folder.Path, "-U", "postgres", name));
            return $"postgresql://postgres@/{name}?Host={_folder.Path}";
        }
    }

    /// <summary>Starts it, where it does not run.</summary>
    public void Start()
    {
        if (_process is not null)
            return;
        var data = _folder.At("data");
        if (!Directory.Exists(data))
        {
            Run("chmod", "a+rwx", _folder.Path);
            Run(As(Program("initdb"), "-D", data, "-U", "postgres", "-A", "trust", "-E", "UTF8", "--no-sync"));
        }
        // What it holds need not outlive the machine.
        var command = As(Program("postgres"), "-D", data, "-k", _folder.Path, "-c", "listen_addresses=", "-c", "max_connections=200", "-c",
            "fsync=off", "-c", "full_page_writes=off", "-c", "synchronous_commit=off");
        _process = Process.Start(new ProcessStartInfo(command[0], command[1..])
        {
            RedirectStandardError = true,
            RedirectStandardOutput = true,
        })!;
        _process.BeginErrorReadLine();
        _process.BeginOutputReadLine();
        for (var tries = 0; tries < 600 && Tools.Try(Program("pg_isready"), ["-h", _folder.Path, "-U", "postgres"]).Code != 0; tries++)
            Thread.Sleep(50);
    }

    /// <summary>Stops it, as one that is gone.</summary>
    public void Stop()
    {
        if (_process is null)
            return;
        Run("kill", "-INT", _process.Id.ToString(CultureInfo.InvariantCulture));
        _process.WaitForExit();
        _process.Dispose();
        _process = null;
    }

    public void Dispose()
    {
        Stop();
        _folder.Dispose();
    }
}
