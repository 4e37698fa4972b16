using System.Globalization;
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
    private readonly LoopbackServers _servers = new();

    public PlaceServers()
    {
        Directory.CreateDirectory(_folder.At("www"));
        (Plain, Tls, Locked, Expired, Registry) = (LoopbackServers.Port(), LoopbackServers.Port(), LoopbackServers.Port(),
            LoopbackServers.Port(), LoopbackServers.Port());
        Certificates();
        Tools.Run("htpasswd", ["-cbB", _folder.At("registry.htpasswd"), User, Password]);
        Tools.Run("htpasswd", ["-cbm", _folder.At("web.htpasswd"), User, Password]);
        Tools.Run("chmod", ["-R", "a+rX", _folder.Path]);
        string Server(int port, string more) => string.Create(CultureInfo.InvariantCulture,
            $"server {{ listen 127.0.0.1:{port}{more} root {_folder.At("www")}; }}");
        string Secure(string name) =>
            $" ssl; ssl_certificate {_folder.At($"{name}.pem")}; ssl_certificate_key {_folder.At($"{name}.key")};";
        var locked = $"{Secure("server")} auth_basic desks; auth_basic_user_file {_folder.At("web.htpasswd")};";
        _servers.StartWeb(_folder.Path, string.Join('\n', Server(Plain, ";"), Server(Tls, Secure("server")), Server(Locked, locked),
            Server(Expired, Secure("expired"))));
        _servers.StartRegistry(_folder.Path, Registry, _folder.At("registry.htpasswd"));
        foreach (var port in (int[])[Plain, Tls, Locked, Expired])
            LoopbackServers.WaitFor(port);
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

    public void Dispose()
    {
        _servers.Dispose();
        _folder.Dispose();
    }
}
