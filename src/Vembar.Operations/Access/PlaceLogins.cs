using System.Text;
using System.Text.Json;
using Vembar.Common;
using Vembar.Common.Files;
using Vembar.Store.Places;
using Vembar.Store.Places.Remote;

namespace Vembar.Operations.Access;

/// <summary>Who one is at which place: from the environment, from our own file, from the registries' common files; in that order.
/// docs/places.md.</summary>
/// <param name="environment">The environment's variables.</param>
public sealed class PlaceLogins(Func<string, string?> environment)
{
    private const int LongestFile = 1 << 20;

    private string Home => environment("HOME") ?? Environment.GetFolderPath(Environment.SpecialFolder.UserProfile);

    private string ConfigFolder => environment("XDG_CONFIG_HOME") is { Length: > 0 } config ? config : Path.Combine(Home, ".config");

    /// <summary>Our own file.</summary>
    public string FilePath => Path.Combine(ConfigFolder, "vembar", "logins.json");

    /// <summary>The place that a login holds for: scheme and host of an address.</summary>
    /// <exception cref="VembarException">It is no address.</exception>
    public static string HostOf(string place)
    {
        var web = PlaceAddress.IsRegistry(place) ? $"https://{place[PlaceAddress.Registry.Length..]}" : place;
        if (!web.Contains("://", StringComparison.Ordinal))
            web = $"https://{web}";
        if (!Uri.TryCreate(web, UriKind.Absolute, out var uri) || uri.Host.Length == 0 || uri.Scheme is not ("http" or "https"))
            throw VembarException.Input("bad-address", $"'{place}' is not a place that one logs in to",
                "Name a host, https://HOST/… or oci://HOST/….");
        if (uri.UserInfo.Length > 0)
            throw VembarException.Input("secret-in-address", "an address holds no user or password", Advice.Of("secret-in-address"));
        return uri.Authority;
    }

    /// <summary>Who one is at an address; null for nobody.</summary>
    public PlaceCredentials? Find(Uri address) => FromEnvironment(address) ?? FromOwnFile(address) ?? FromCommonFiles(address);

    private PlaceCredentials? FromEnvironment(Uri address)
    {
        if (environment("VEMBAR_HOST") is not { Length: > 0 } host || !host.Equals(address.Authority, StringComparison.OrdinalIgnoreCase))
            return null;
        if (environment("VEMBAR_TOKEN") is { Length: > 0 } token)
            return new PlaceCredentials("", token, IsToken: true);
        return environment("VEMBAR_USER") is { Length: > 0 } user && environment("VEMBAR_PASSWORD") is { } password
            ? new PlaceCredentials(user, password, IsToken: false) : null;
    }

    private PlaceCredentials? FromOwnFile(Uri address) =>
        Read().Places.TryGetValue(address.Authority, out var login) ? new PlaceCredentials(login.User, login.Secret, login.IsToken) : null;

    private LoginFile Read()
    {
        try
        {
            return ReadBytes(FilePath) is { } bytes ? JsonSerializer.Deserialize(bytes, AccessJson.Default.LoginFile) ?? new LoginFile()
                : new LoginFile();
        }
        catch (JsonException)
        {
            throw VembarException.Input("bad-logins", $"'{FilePath}' is damaged", Advice.Of("log-in-again"));
        }
    }

    private static byte[]? ReadBytes(string path)
    {
        try
        {
            if (!File.Exists(path))
                return null;
            using var file = InputFile.OpenRead(path);
            if (file.Length > LongestFile)
                return null;
            var bytes = new byte[file.Length];
            file.ReadExactly(bytes);
            return bytes;
        }
        catch (Exception failure) when (VembarException.From(failure, "read", path) is { } error)
        {
            throw error;
        }
    }

    /// <summary>Keeps who one is at a place, in a file that nobody else may read.</summary>
    /// <param name="host">The place, as <see cref="HostOf"/> gives it.</param>
    /// <param name="credentials">Who; null to forget it.</param>
    /// <returns>Whether anything was kept before.</returns>
    /// <exception cref="VembarException">The file cannot be written.</exception>
    public bool Keep(string host, PlaceCredentials? credentials)
    {
        var file = Read();
        var was = file.Places.Remove(host);
        if (credentials is not null)
            file.Places[host] = new Login(credentials.User, credentials.Secret, credentials.IsToken);
        else if (!was)
            return false;
        var scratch = $"{FilePath}.{Guid.NewGuid():N}";
        try
        {
            Directory.CreateDirectory(Path.GetDirectoryName(FilePath)!,
                UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
            using (var stream = PrivateFile.Create(scratch))
            {
                JsonSerializer.Serialize(stream, file, AccessJson.Default.LoginFile);
                stream.Flush(flushToDisk: true);
            }
            File.Move(scratch, FilePath, overwrite: true);
            return was;
        }
        catch (Exception failure) when (VembarException.From(failure, "write", FilePath) is { } error)
        {
            File.Delete(scratch);
            throw error;
        }
    }

    // What other programs that speak to registries keep: { "auths": { "host": { "auth": base64(user:password) } } }.
    private PlaceCredentials? FromCommonFiles(Uri address)
    {
        foreach (var path in CommonFiles())
        {
            if (ReadBytes(path) is not { } bytes)
                continue;
            CommonLogins? file;
            try
            {
                file = JsonSerializer.Deserialize(bytes, AccessJson.Default.CommonLogins);
            }
            catch (JsonException)
            {
                continue;
            }
            foreach (var (name, login) in file?.Auths ?? [])
            {
                var host = name.Contains("://", StringComparison.Ordinal) ? name[(name.IndexOf("://", StringComparison.Ordinal) + 3)..]
                    : name;
                if (host.Split('/')[0].Equals(address.Authority, StringComparison.OrdinalIgnoreCase) && Of(login) is { } found)
                    return found;
            }
        }
        return null;
    }

    private static PlaceCredentials? Of(CommonLogin? login)
    {
        if (login?.Auth is not { Length: > 0 } auth)
            return null;
        try
        {
            var text = Encoding.UTF8.GetString(Convert.FromBase64String(auth));
            return text.IndexOf(':') is > 0 and var at ? new PlaceCredentials(text[..at], text[(at + 1)..], IsToken: false) : null;
        }
        catch (FormatException)
        {
            return null;
        }
    }

    private IEnumerable<string> CommonFiles()
    {
        if (environment("REGISTRY_AUTH_FILE") is { Length: > 0 } named)
            yield return named;
        if (environment("XDG_RUNTIME_DIR") is { Length: > 0 } runtime)
            yield return Path.Combine(runtime, "containers", "auth.json");
        yield return Path.Combine(ConfigFolder, "containers", "auth.json");
        yield return Path.Combine(environment("DOCKER_CONFIG") is { Length: > 0 } folder ? folder : Path.Combine(Home, ".docker"),
            "config.json");
    }
}
