using System.Diagnostics;
using System.Globalization;
using System.Net;
using System.Net.Sockets;

namespace Vembar.Cli.Tests;

/// <summary>Programs that serve on loopback until this is disposed: a web server and a registry.</summary>
internal sealed class LoopbackServers : IDisposable
{
    private readonly List<Process> _processes = [];

    /// <summary>A port that is free now, and that no connection gets by itself: those come from 32768 on.</summary>
    public static int Port()
    {
        const int First = 20_000, Last = 32_000;
        while (true)
        {
            using var listener = new TcpListener(IPAddress.Loopback, Random.Shared.Next(First, Last));
            try
            {
                listener.Start();
                return ((IPEndPoint)listener.LocalEndpoint).Port;
            }
            catch (SocketException)
            {
                // Somebody has it.
            }
        }
    }

    /// <summary>Starts nginx.</summary>
    /// <param name="folder">Where it keeps what it needs.</param>
    /// <param name="servers">Its server blocks.</param>
    public void StartWeb(string folder, string servers)
    {
        // Whoever runs this as root has nginx's workers run as somebody who may read the files.
        var user = Environment.UserName == "root" ? "user root;" : "";
        File.WriteAllText($"{folder}/nginx.conf", $$"""
            daemon off; pid {{folder}}/nginx.pid; error_log stderr; worker_processes 1; {{user}}
            events { worker_connections 256; }
            http {
              access_log off; client_body_temp_path {{folder}}/body; proxy_temp_path {{folder}}/proxy;
              fastcgi_temp_path {{folder}}/fastcgi; uwsgi_temp_path {{folder}}/uwsgi; scgi_temp_path {{folder}}/scgi;
              {{servers}}
            }
            """);
        Start("/usr/sbin/nginx", "-c", $"{folder}/nginx.conf");
    }

    /// <summary>Starts a registry, and returns when it answers.</summary>
    /// <param name="folder">Where it keeps what it is sent.</param>
    /// <param name="port">Where it listens.</param>
    /// <param name="passwords">The file of who may use it; null for everybody.</param>
    public void StartRegistry(string folder, int port, string? passwords = null)
    {
        File.WriteAllText($"{folder}/registry.yml", string.Create(CultureInfo.InvariantCulture, $"""
            version: 0.1
            log:
              level: error
              accesslog:
                disabled: true
            storage:
              filesystem:
                rootdirectory: {folder}/registry
              delete:
                enabled: true
            http:
              addr: 127.0.0.1:{port}

            """) + (passwords is null ? "" : $"""
            auth:
              htpasswd:
                realm: desks
                path: {passwords}

            """));
        Start("docker-registry", "serve", $"{folder}/registry.yml");
        WaitFor(port);
    }

    private void Start(string program, params string[] arguments)
    {
        var start = new ProcessStartInfo(program, arguments) { RedirectStandardOutput = true, RedirectStandardError = true };
        start.Environment["OTEL_TRACES_EXPORTER"] = "none";
        var process = Process.Start(start)!;
        process.BeginOutputReadLine();
        process.BeginErrorReadLine();
        _processes.Add(process);
    }

    /// <summary>Waits until somebody listens.</summary>
    /// <exception cref="InvalidOperationException">Nobody does within half a minute.</exception>
    public static void WaitFor(int port)
    {
        for (var tries = 0; tries < 600; tries++)
        {
            try
            {
                using var client = new TcpClient("127.0.0.1", port);
                return;
            }
            catch (SocketException)
            {
                Thread.Sleep(50);
            }
        }
        throw new InvalidOperationException($"nobody listens at port {port}");
    }

    public void Dispose()
    {
        foreach (var process in _processes)
        {
            process.Kill(entireProcessTree: true);
            process.WaitForExit();
            process.Dispose();
        }
    }
}
