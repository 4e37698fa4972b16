using System.Globalization;
using System.Security.Cryptography;
using System.Security.Cryptography.Pkcs;
using System.Security.Cryptography.X509Certificates;
using Vembar.Common;
using Vembar.Common.Files;
using Vembar.Windows.Servicing.Folders;

namespace Vembar.Windows.Servicing.Drivers;

/// <summary>The certificates that the user trusts, and the check of driver packages against them.</summary>
public sealed class DriverTrust
{
    private const string CodeSigning = "1.3.6.1.5.5.7.3.3", TimeStamping = "1.3.6.1.5.5.7.3.8", Stamp = "1.3.6.1.4.1.311.3.3.1",
        SigningTime = "1.2.840.113549.1.9.5";
    private TrustedCertificates _trusted = TrustedCertificates.None;
    private TimeProvider _clock = TimeProvider.System;

    /// <summary>Nobody is trusted.</summary>
    public static DriverTrust Nobody { get; } = new();

    /// <summary>How many certificates are trusted.</summary>
    public int Count => _trusted.Count;

    /// <summary>Loads certificates: files in PEM or DER form, or PKCS #7 bundles, or folders of such.</summary>
    /// <exception cref="VembarException">One is missing or holds no certificate; all problems are told.</exception>
    /// <param name="paths">The files and folders.</param>
    /// <param name="clock">What tells whether a certificate has run out; null for the machine's.</param>
    public static DriverTrust Load(IEnumerable<string> paths, TimeProvider? clock = null) => new()
    {
        _trusted = TrustedCertificates.Load(paths),
        _clock = clock ?? TimeProvider.System,
    };

    /// <summary>Looks at the signature of a package: the catalog's signature, its signer, and that every file is listed with its
    /// hash.</summary>
    /// <param name="driver">The package as one Windows sees it.</param>
    /// <exception cref="VembarException">A file cannot be read.</exception>
    public DriverSignature Check(FittedDriver driver)
    {
        static DriverSignature No(SignatureState state, string why, string signer = "") => new(state, signer, null, why);
        var folder = driver.Package.Folder;
        if (driver.Catalog.Length == 0)
            return No(SignatureState.Unsigned, "its INF names no security catalog");
        if (folder.Length(driver.Catalog) is null)
            return No(SignatureState.Unsigned, $"its security catalog {driver.Catalog} is missing");
        SecurityCatalog catalog;
        try
        {
            catalog = SecurityCatalog.Parse(folder.Read(driver.Catalog, SecurityCatalog.Longest), driver.Catalog);
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Input)
        {
            return No(SignatureState.BadCatalog, problem.Message);
        }
        var signature = CheckSigner(catalog.Signature);
        if (signature.State is SignatureState.Unsigned or SignatureState.BadSignature)
            return signature;
        var wrong = driver.Files.Where(f => !f.Equals(driver.Catalog, StringComparison.OrdinalIgnoreCase) && folder.Length(f) is not null)
            .Where(f => !IsCovered(catalog, folder, f)).ToList();
        // Files that are not what was signed are worse than not knowing who signed them.
        return wrong.Count == 0 ? signature
            : No(SignatureState.WrongHash, $"not as it was signed: {string.Join(", ", wrong)}", signature.Signer);
    }

    private static bool IsCovered(SecurityCatalog catalog, IPackageFolder folder, string file)
    {
        using var content = folder.Open(file);
        return catalog.Covers(content);
    }

    /// <summary>Looks at who signed a message, and whether it still is what was signed.</summary>
    public DriverSignature CheckSigner(SignedCms message)
    {
        try
        {
            return LookAtSigner(message);
        }
        catch (CryptographicException failure)
        {
            return new DriverSignature(SignatureState.BadSignature, "", null,
                $"the signature of its security catalog is damaged: {failure.Message.TrimEnd('.')}");
        }
    }

    private DriverSignature LookAtSigner(SignedCms message)
    {
        if (message.SignerInfos.Count == 0)
            return new DriverSignature(SignatureState.Unsigned, "", null, "nobody signed its security catalog");
        var signer = message.SignerInfos[0];
        if (signer.Certificate is not { } certificate)
            return new DriverSignature(SignatureState.BadSignature, "", null,
                "its security catalog does not hold the signer's certificate");
        var name = certificate.GetNameInfo(X509NameType.SimpleName, forIssuer: false);
        try
        {
            signer.CheckSignature(verifySignatureOnly: true);
        }
        catch (CryptographicException)
        {
            return new DriverSignature(SignatureState.BadSignature, name, null, "its security catalog was changed after it was signed");
        }
        var (stamped, doubt) = StampOf(signer, message.Certificates);
        var (state, why) = Chain(certificate, message.Certificates, stamped ?? _clock.GetUtcNow().UtcDateTime, CodeSigning);
        var when = stamped is not null ? " when it signed" : doubt.Length > 0 ? $", and {doubt}" : ", and there is no time-stamp";
        var timeStamp = stamped is { } time ? string.Create(CultureInfo.InvariantCulture, $", time-stamped {time:yyyy-MM-dd}") : "";
        why = state switch
        {
            SignatureState.Signed => $"signed by {name}{timeStamp}",
            SignatureState.Expired => $"the certificate of {name} {why}{when}",
            _ => $"signed by {name}, {why}",
        };
        return new DriverSignature(state, name, stamped, why);
    }

    // When a trusted authority saw the signature: a token of RFC 3161, or the older countersignature of PKCS #9.
    private (DateTime? Time, string Doubt) StampOf(SignerInfo signer, X509Certificate2Collection further)
    {
        try
        {
            foreach (var attribute in signer.UnsignedAttributes)
            {
                if (attribute.Oid.Value != Stamp || !Rfc3161TimestampToken.TryDecode(attribute.Values[0].RawData, out var token, out _))
                    continue;
                var others = new X509Certificate2Collection(further);
                others.AddRange(token.AsSignedCms().Certificates);
#pragma warning disable CA2000 // of the token, which owns nothing
                if (!token.VerifySignatureForData(signer.GetSignature(), out var authority, others))
#pragma warning restore CA2000
                    return (null, "its time-stamp is not of this signature");
                var time = token.TokenInfo.Timestamp.UtcDateTime;
                return Chain(authority, others, time, TimeStamping).State == SignatureState.Signed ? (time, "")
                    : (null, "its time-stamp is not by anybody trusted");
            }
            foreach (var counter in signer.CounterSignerInfos)
            {
                counter.CheckSignature(verifySignatureOnly: true);
                var time = counter.SignedAttributes.Cast<CryptographicAttributeObject>().Where(a => a.Oid.Value == SigningTime)
                    .SelectMany(a => a.Values.Cast<AsnEncodedData>()).Select(v => new Pkcs9SigningTime(v.RawData).SigningTime)
                        .FirstOrDefault();
                if (time == default || counter.Certificate is null)
                    continue;
                return Chain(counter.Certificate, further, time, TimeStamping).State == SignatureState.Signed ? (time, "")
                    : (null, "its time-stamp is not by anybody trusted");
            }
        }
        catch (CryptographicException)
        {
            return (null, "its time-stamp is damaged");
        }
        return (null, "");
    }

    private (SignatureState State, string Why) Chain(X509Certificate2 certificate, X509Certificate2Collection further, DateTime time,
        string purpose)
    {
        if (certificate.Extensions.OfType<X509EnhancedKeyUsageExtension>().FirstOrDefault() is { } usage
            && !usage.EnhancedKeyUsages.Cast<Oid>().Any(o => o.Value == purpose))
            return (SignatureState.Untrusted,
                purpose == CodeSigning ? "whose certificate is not one for signing code" : "whose certificate is not one for time-stamps");
        return _trusted.Chain(certificate, further, time);
    }
}
