using System.Diagnostics;
using System.Globalization;
using System.Net;
using System.Net.Sockets;
using Vembar.Cli.Tests;
using Vembar.Tests;
using Xunit;

[assembly: AssemblyFixture(typeof(PlaceServers))]

namespace Vembar.Cli.Tests;

/// <summary>Real servers on loopback for as long as the tests run: nginx with and without TLS and a password, and a registry with
/// one.</summary>
public sealed class PlaceServers : IDisposable
{
    public const string User = "publisher", Password = "staithe-word";
    private readonly TempFolder _folder = new();
    private readonly List<Process> _processes = [];

    public PlaceServers()
    {
        Directory.CreateDirectory(_folder.At("www"));
        (Plain, Tls, Locked, Expired, Registry) = (Port(), Port(), Port(), Port(), Port());
        Certificates();
        Tools.Run("htpasswd", ["-cbB", _folder.At("registry.htpasswd"), User, Password]);
        Tools.Run("htpasswd", ["-cbm", _folder.At("web.htpasswd"), User, Password]);
        // Whoever runs the tests as root has nginx's workers run as somebody who may read the files.
        Tools.Run("chmod", ["-R", "a+rX", _folder.Path]);
        string Server(int port, string more) => string.Create(CultureInfo.InvariantCulture,
            $"server {{ listen 127.0.0.1:{port}{more} root {_folder.At("www")}; }}");
        string Secure(string name) =>
            $" ssl; ssl_certificate {_folder.At($"{name}.pem")}; ssl_certificate_key {_folder.At($"{name}.key")};";
        var user = Environment.UserName == "root" ? "user root;" : "";
        _folder.Write("nginx.conf", $$"""
            daemon off; pid {{_folder.At("nginx.pid")}}; error_log stderr; worker_processes 1; {{user}}
            events { worker_connections 256; }
            http {
              access_log {{_folder.At("access.log")}};
              client_body_temp_path {{_folder.At("body")}}; proxy_temp_path {{_folder.At("proxy")}};
              fastcgi_temp_path {{_folder.At("fastcgi")}}; uwsgi_temp_path {{_folder.At("uwsgi")}}; scgi_temp_path {{_folder.At("scgi")}};
              {{Server(Plain, ";")}}
              {{Server(Tls, Secure("server"))}}
              {{Server(Locked, $"{Secure("server")} auth_basic desks; auth_basic_user_file {_folder.At("web.htpasswd")};")}}
              {{Server(Expired, Secure("expired"))}}
            }
            """);
        _folder.Write("registry.yml", string.Create(CultureInfo.InvariantCulture, $"""
            version: 0.1
            log:
              level: error
              accesslog:
                disabled: true
            storage:
              filesystem:
                rootdirectory: {_folder.At("registry")}
              delete:
                enabled: true
            http:
              addr: 127.0.0.1:{Registry}
            auth:
              htpasswd:
                realm: desks
                path: {_folder.At("registry.htpasswd")}
            """));
        Start("/usr/sbin/nginx", "-c", _folder.At("nginx.conf"));
        Start("docker-registry", "serve", _folder.At("registry.yml"));
        foreach (var port in (int[])[Plain, Tls, Locked, Expired, Registry])
            WaitFor(port);
    }

    public int Plain { get; }

    public int Tls { get; }

    public int Locked { get; }

    public int Expired { get; }

    public int Registry { get; }

    public string Authority => _folder.At("authority.pem");

    public string Address(int port, string path) =>
        string.Create(CultureInfo.InvariantCulture, $"{(port == Plain ? "http" : "https")}://localhost:{port}/{path}");

    public string Repository(string name) => string.Create(CultureInfo.InvariantCulture, $"oci://127.0.0.1:{Registry}/{name}");

    /// <summary>Puts a file where the web servers serve it.</summary>
    public void Put(string name, string file)
    {
        File.Copy(file, _folder.At($"www/{name}"), overwrite: true);
        Tools.Run("chmod", ["a+r", _folder.At($"www/{name}")]);
    }

    private static int Port()
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        return ((IPEndPoint)listener.LocalEndpoint).Port;
    }

    private void Certificates()
    {
        void OpenSsl(params string[] arguments) => Tools.Run("openssl", arguments, _folder.Path);
        OpenSsl("req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", "authority.key", "-out", "authority.pem", "-days", "3650",
            "-subj",
            "/CN=Tarn Valley Authority");
        _folder.Write("san.txt", "subjectAltName=DNS:localhost,IP:127.0.0.1\n");
        foreach (var name in (string[])["server", "expired"])
        {
            OpenSsl("req", "-newkey", "rsa:2048", "-nodes", "-keyout", $"{name}.key", "-out", $"{name}.csr", "-subj", "/CN=localhost");
            OpenSsl("x509", "-req", "-in", $"{name}.csr", "-CA", "authority.pem", "-CAkey", "authority.key", "-CAcreateserial", "-extfile",
                "san.txt", "-out", $"{name}.pem", "-days", name == "server" ? "3650" : "-1");
        }
    }

    private void Start(string program, params string[] arguments)
    {
        var start = new ProcessStartInfo(program, arguments) { RedirectStandardOutput = true, RedirectStandardError = true };
        start.Environment["OTEL_TRACES_EXPORTER"] = "none";
        var process = Process.Start(start)!;
        process.OutputDataReceived += (_, _) => { };
        process.ErrorDataReceived += (_, _) => { };
        process.BeginOutputReadLine();
        process.BeginErrorReadLine();
        _processes.Add(process);
    }

    private static void WaitFor(int port)
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
        _folder.Dispose();
    }
}
