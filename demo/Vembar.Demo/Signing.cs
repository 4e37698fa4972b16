using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;

namespace Vembar.Demo;

/// <summary>The made-up signers of the demo's drivers: an authority, and one that it vouches for. The same at every run.</summary>
internal static class Signing
{
    private static readonly DateTimeOffset s_from = new(2025, 1, 1, 0, 0, 0, TimeSpan.Zero), s_to = new(2045, 1, 1, 0, 0, 0, TimeSpan.Zero);

    /// <summary>The authority's certificate.</summary>
    public static X509Certificate2 Root { get; } = MakeRoot();

    /// <summary>The signer's certificate, which the authority vouches for.</summary>
    public static X509Certificate2 Signer { get; } = MakeSigner();

    /// <summary>The key of "root" or "signer".</summary>
    public static RSA Key(string name)
    {
        using var stream = typeof(Signing).Assembly.GetManifestResourceStream($"signing/{name}-key.pem")!;
        var key = RSA.Create();
        key.ImportFromPem(new StreamReader(stream).ReadToEnd());
        return key;
    }

    private static X509Certificate2 MakeRoot()
    {
        var request = new CertificateRequest("CN=Fellview Hardware Signing Root, O=Fellview", Key("root"), HashAlgorithmName.SHA256,
            RSASignaturePadding.Pkcs1);
        request.CertificateExtensions.Add(new X509BasicConstraintsExtension(true, false, 0, true));
        request.CertificateExtensions.Add(new X509KeyUsageExtension(X509KeyUsageFlags.KeyCertSign, true));
        return request.Create(request.SubjectName, X509SignatureGenerator.CreateForRSA(Key("root"), RSASignaturePadding.Pkcs1), s_from,
            s_to, [1]);
    }

    private static X509Certificate2 MakeSigner()
    {
        const string CodeSigning = "1.3.6.1.5.5.7.3.3";
        var request = new CertificateRequest("CN=Fellview Hardware Signing, O=Fellview", Key("signer"), HashAlgorithmName.SHA256,
            RSASignaturePadding.Pkcs1);
        request.CertificateExtensions.Add(new X509BasicConstraintsExtension(false, false, 0, true));
        request.CertificateExtensions.Add(new X509KeyUsageExtension(X509KeyUsageFlags.DigitalSignature, true));
        request.CertificateExtensions.Add(new X509EnhancedKeyUsageExtension([new Oid(CodeSigning)], false));
        return request.Create(Root.SubjectName, X509SignatureGenerator.CreateForRSA(Key("root"), RSASignaturePadding.Pkcs1), s_from, s_to,
            [2]);
    }
}
