using System.Diagnostics;
using System.Globalization;
using System.Net;
using System.Net.Sockets;

/// <summary>nginx and a registry on loopback, for as long as archives there are measured.</summary>
internal sealed class PlaceServers : IDisposable
{
    private readonly List<Process> _processes = [];

    /// <param name="folder">What the web server serves, and where both keep theirs.</param>
    public PlaceServers(string folder)
    {
        var (web, registry) = (Port(), Port());
        Web = string.Create(CultureInfo.InvariantCulture, $"http://127.0.0.1:{web}");
        Registry = string.Create(CultureInfo.InvariantCulture, $"oci://127.0.0.1:{registry}");
        var user = Environment.UserName == "root" ? "user root;" : "";
        File.WriteAllText($"{folder}/nginx.conf", string.Create(CultureInfo.InvariantCulture, $$"""
            daemon off; pid {{folder}}/nginx.pid; error_log stderr; {{user}}
            events { worker_connections 256; }
            http { access_log off; client_body_temp_path {{folder}}/body; proxy_temp_path {{folder}}/proxy;
                fastcgi_temp_path {{folder}}/fastcgi; uwsgi_temp_path {{folder}}/uwsgi; scgi_temp_path {{folder}}/scgi;
                server { listen 127.0.0.1:{{web}}; root {{folder}}; } }
            """));
        File.WriteAllText($"{folder}/registry.yml", string.Create(CultureInfo.InvariantCulture, $"""
            version: 0.1
            log:
              level: error
              accesslog:
                disabled: true
            storage:
              filesystem:
                rootdirectory: {folder}/registry
            http:
              addr: 127.0.0.1:{registry}
            """));
        Start("/usr/sbin/nginx", "-c", $"{folder}/nginx.conf");
        Start("docker-registry", "serve", $"{folder}/registry.yml");
        Wait(web);
        Wait(registry);
    }

    public string Web { get; }

    public string Registry { get; }

    private static int Port()
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        return ((IPEndPoint)listener.LocalEndpoint).Port;
    }

    private void Start(string program, params string[] arguments)
    {
        var process = Process.Start(new ProcessStartInfo(program, arguments)
        {
            RedirectStandardError = true,
            RedirectStandardOutput = true,
        })!;
        process.BeginErrorReadLine();
        process.BeginOutputReadLine();
        _processes.Add(process);
    }

    private static void Wait(int port)
    {
        while (true)
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
