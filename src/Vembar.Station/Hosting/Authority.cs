using System.Net;
using System.Net.NetworkInformation;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using Vembar.Common;
using Vembar.Common.Files;

namespace Vembar.Station.Hosting;

/// <summary>The station's own certificate authority, and the certificate that it gives the station.</summary>
public static class Authority
{
    private const int YearsOfAuthority = 20, DaysOfServer = 397, DaysBefore = 30;

    /// <summary>Where its certificate is, for those who are to trust it.</summary>
    public static string CertificatePath(string data) => Path.Combine(data, "authority.pem");

    private static string KeyPath(string data) => Path.Combine(data, "authority.key");

    /// <summary>The station's certificate, signed by its own authority; both are made where they are not there. The station's own is made
    /// anew at each start: so it names the addresses that the machine has now.</summary>
    /// <param name="data">The folder for what is the station's own.</param>
    /// <param name="names">Further names and addresses that it is reached by.</param>
    /// <param name="now">The time.</param>
    /// <exception cref="VembarException">They cannot be read or written.</exception>
    public static X509Certificate2 Issue(string data, IEnumerable<string> names, DateTimeOffset now)
    {
        try
        {
            if (!File.Exists(KeyPath(data)) || !File.Exists(CertificatePath(data)))
                Make(data, now);
            using var authority = X509Certificate2.CreateFromPemFile(CertificatePath(data), KeyPath(data));
            using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
            var request = new CertificateRequest(new X500DistinguishedName("CN=Vembar station"), key, HashAlgorithmName.SHA256);
            request.CertificateExtensions.Add(new X509BasicConstraintsExtension(false, false, 0, true));
            request.CertificateExtensions.Add(new X509KeyUsageExtension(X509KeyUsageFlags.DigitalSignature, true));
            request.CertificateExtensions.Add(new X509EnhancedKeyUsageExtension([new Oid("1.3.6.1.5.5.7.3.1")], false));
            request.CertificateExtensions.Add(NamesOf(names).Build());
            request.CertificateExtensions.Add(X509AuthorityKeyIdentifierExtension.CreateFromCertificate(authority, true, false));
            var serial = RandomNumberGenerator.GetBytes(16);
            serial[0] &= 0x7F;
            using var issued = request.Create(authority, now.AddDays(-DaysBefore), now.AddDays(DaysOfServer), serial);
            using var whole = issued.CopyWithPrivateKey(key);
            // TLS wants a key that is not only in this call.
            return X509CertificateLoader.LoadPkcs12(whole.Export(X509ContentType.Pkcs12), null);
        }
        catch (CryptographicException failure)
        {
            throw VembarException.Input("bad-authority", $"the station's authority in '{data}' cannot be used: {failure.Message}",
                "Put back authority.pem and authority.key from a copy, or remove both: then a new one is made, which machines have to be "
                + "told.");
        }
    }

    private static void Make(string data, DateTimeOffset now)
    {
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var request = new CertificateRequest(new X500DistinguishedName($"CN=Vembar station authority {Dns.GetHostName()}"), key,
            HashAlgorithmName.SHA256);
        request.CertificateExtensions.Add(new X509BasicConstraintsExtension(true, true, 0, true));
        request.CertificateExtensions.Add(new X509KeyUsageExtension(X509KeyUsageFlags.KeyCertSign | X509KeyUsageFlags.CrlSign, true));
        request.CertificateExtensions.Add(new X509SubjectKeyIdentifierExtension(request.PublicKey, false));
        // A clock that is a day off, here or at a machine, is no reason not to be believed.
        using var made = request.CreateSelfSigned(now.AddDays(-DaysBefore), now.AddYears(YearsOfAuthority));
        File.Delete(KeyPath(data));
        PrivateFile.Write(KeyPath(data), key.ExportPkcs8PrivateKeyPem() + "\n");
        File.WriteAllText(CertificatePath(data), made.ExportCertificatePem() + "\n");
    }

    private static SubjectAlternativeNameBuilder NamesOf(IEnumerable<string> names)
    {
        var builder = new SubjectAlternativeNameBuilder();
        var all = new HashSet<string>(names, StringComparer.OrdinalIgnoreCase) { "localhost", Dns.GetHostName() };
        foreach (var card in NetworkInterface.GetAllNetworkInterfaces())
            all.UnionWith(card.GetIPProperties().UnicastAddresses.Select(a => a.Address.ToString().Split('%')[0]));
        foreach (var name in all)
        {
            if (IPAddress.TryParse(name, out var address))
                builder.AddIpAddress(address);
            else
                builder.AddDnsName(name);
        }
        return builder;
    }
}
