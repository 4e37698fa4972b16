using System.Security.Cryptography;
using System.Security.Cryptography.Pkcs;
using System.Security.Cryptography.X509Certificates;
using Vembar.Common;
using Vembar.Common.Files;
using Vembar.Images.Records;

namespace Vembar.Operations.Sign;

/// <summary>Makes signatures of images and looks into them.</summary>
internal static class ImageSigning
{
    /// <summary>Loads a certificate with its key.</summary>
    /// <param name="certificate">The certificate's file, PEM.</param>
    /// <param name="key">The key's file, PEM.</param>
    /// <param name="password">Asked for the password of an encrypted key.</param>
    /// <exception cref="VembarException">One is missing or damaged, or they do not belong together.</exception>
    public static X509Certificate2 Load(string certificate, string key, Func<string> password)
    {
        var certificateText = Read(certificate);
        var keyText = Read(key);
        try
        {
            // What is loaded from PEM alone cannot sign on every system.
            return keyText.Contains("ENCRYPTED PRIVATE KEY", StringComparison.Ordinal)
                ? X509Certificate2.CreateFromEncryptedPem(certificateText, keyText, password())
                : X509Certificate2.CreateFromPem(certificateText, keyText);
        }
        catch (Exception failure) when (failure is CryptographicException or ArgumentException)
        {
            throw VembarException.Input("bad-key", $"the key '{key}' and the certificate '{certificate}' cannot be used together: "
                + failure.Message.Split('\n')[0].TrimEnd('.'),
                "Both are PEM files, the key is the certificate's own, the password is right.");
        }
    }

    private static string Read(string path)
    {
        const long Longest = 1 << 20;
        try
        {
            if (new FileInfo(path).Length > Longest)
                throw VembarException.Input("bad-key", $"'{path}' is too long to be a key or a certificate", "Name a PEM file.");
            return InputFile.ReadAllText(path);
        }
        catch (Exception failure) when (failure is not VembarException && VembarException.From(failure, "read", path) is { } error)
        {
            throw error;
        }
    }

    /// <summary>Signs a statement.</summary>
    /// <exception cref="VembarException">The key cannot sign.</exception>
    public static ImageSignature Sign(byte[] statement, X509Certificate2 certificate, DateTime now)
    {
        try
        {
            var cms = new SignedCms(new ContentInfo(statement), detached: true);
            var signer = new CmsSigner(SubjectIdentifierType.IssuerAndSerialNumber, certificate)
            {
                DigestAlgorithm = new Oid("2.16.840.1.101.3.4.2.1"),
                IncludeOption = X509IncludeOption.EndCertOnly,
            };
            signer.SignedAttributes.Add(new Pkcs9SigningTime(now));
            cms.ComputeSignature(signer);
            return new ImageSignature(certificate.GetNameInfo(X509NameType.SimpleName, forIssuer: false), now, cms.Encode());
        }
        catch (Exception failure) when (failure is CryptographicException or NotSupportedException)
        {
            throw VembarException.Input("bad-key", $"the key cannot sign: {failure.Message.TrimEnd('.')}",
                "Use an RSA or elliptic-curve key.");
        }
    }

    /// <summary>Looks at a signature, not at whether its signer is trusted.</summary>
    /// <param name="image">The image that it is to be of.</param>
    /// <param name="signature">The signature.</param>
    /// <param name="message">The message, for its certificates; null where it is damaged.</param>
    /// <returns>What is wrong with it; null for nothing.</returns>
    public static string? Problem(ImageRecord image, ImageSignature signature, out SignedCms? message)
    {
        message = null;
        try
        {
            var cms = new SignedCms(new ContentInfo(ImageStatement.Of(image)), detached: true);
            cms.Decode(signature.Cms);
            if (cms.SignerInfos.Count != 1 || cms.SignerInfos[0].Certificate is null)
                return "it does not hold its signer's certificate";
            message = cms;
            cms.SignerInfos[0].CheckSignature(verifySignatureOnly: true);
            return null;
        }
        catch (CryptographicException)
        {
            return message is null ? "it is damaged" : "it is of something else: the image, its name or its version was changed since";
        }
    }

    /// <summary>When a signature says that it was made; null when it does not.</summary>
    public static DateTime? TimeOf(SignedCms message) => message.SignerInfos[0].SignedAttributes.Cast<CryptographicAttributeObject>()
        .SelectMany(a => a.Values.Cast<AsnEncodedData>()).OfType<Pkcs9SigningTime>().Select(t => (DateTime?)t.SigningTime.ToUniversalTime())
        .FirstOrDefault();
}
