using System.Text.RegularExpressions;
using Vembar.Common;

namespace Vembar.Store.Places.Remote;

/// <summary>The address of an archive in a registry: oci://REGISTRY/REPOSITORY[:TAG]. OCI distribution specification 1.1,
/// "Pulling manifests".</summary>
/// <param name="Text">The address as it was given.</param>
/// <param name="Host">The registry, with its port.</param>
/// <param name="Name">The repository.</param>
/// <param name="Tag">The tag.</param>
internal sealed partial record OciReference(string Text, string Host, string Name, string Tag)
{
    /// <summary>Reads an address.</summary>
    /// <exception cref="VembarException">It is none.</exception>
    public static OciReference Parse(string text)
    {
        var rest = text[PlaceAddress.Registry.Length..];
        var slash = rest.IndexOf('/');
        var host = slash > 0 ? rest[..slash] : "";
        var name = slash > 0 ? rest[(slash + 1)..] : "";
        var tag = "latest";
        if (name.LastIndexOf(':') is > 0 and var colon)
            (name, tag) = (name[..colon], name[(colon + 1)..]);
        if (host.Contains('@'))
            throw VembarException.Input("secret-in-address", $"an address holds no user or password ('{PlaceAddress.Registry}"
                + $"{rest[(rest.IndexOf('@') + 1)..]}')", Advice.Of("secret-in-address"));
        if (!HostForm().IsMatch(host) || !NameForm().IsMatch(name) || !TagForm().IsMatch(tag))
            throw VembarException.Input("bad-address", $"'{text}' is not the address of an archive in a registry",
                "Write oci://HOST[:PORT]/NAME[:TAG], with a name of small letters, digits and / . _ -.");
        return new OciReference(text, host, name, tag);
    }

    /// <summary>The same repository with another tag.</summary>
    public OciReference With(string tag) => this with { Tag = tag };

    [GeneratedRegex(@"^(\[[0-9A-Fa-f:.]+\]|[A-Za-z0-9._-]+)(:\d{1,5})?$")]
    private static partial Regex HostForm();

    [GeneratedRegex(@"^[a-z0-9]+((\.|_|__|-+)[a-z0-9]+)*(/[a-z0-9]+((\.|_|__|-+)[a-z0-9]+)*)*$")]
    private static partial Regex NameForm();

    [GeneratedRegex("^[A-Za-z0-9_][A-Za-z0-9._-]{0,127}$")]
    private static partial Regex TagForm();
}
