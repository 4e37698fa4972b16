using System.Globalization;
using System.Security.Cryptography;
using System.Security.Cryptography.Pkcs;
using System.Security.Cryptography.X509Certificates;
using Vembar.Common;
using Vembar.Common.Files;

namespace Vembar.Windows.Servicing.Drivers;

/// <summary>Certificates that the user trusts: authorities, those between, or the signers' own.</summary>
public sealed class TrustedCertificates
{
    private static readonly string[] s_certificateFiles = [".pem", ".crt", ".cer", ".der", ".p7b"];
    private readonly X509Certificate2Collection _trusted = [];

    /// <summary>None.</summary>
    public static TrustedCertificates None { get; } = new();

    /// <summary>How many there are.</summary>
    public int Count => _trusted.Count;

    /// <summary>All of them.</summary>
    public IEnumerable<X509Certificate2> All => _trusted;

    /// <summary>Loads certificates: files in PEM or DER form, or PKCS #7 bundles, or folders of such.</summary>
    /// <exception cref="VembarException">One is missing or holds no certificate; all problems are told.</exception>
    /// <param name="paths">The files and folders.</param>
    public static TrustedCertificates Load(IEnumerable<string> paths)
    {
        var trust = new TrustedCertificates();
        var problems = new List<string>();
        foreach (var path in paths)
        {
            if (Directory.Exists(path))
            {
                var files = Directory.EnumerateFiles(path)
                    .Where(f => s_certificateFiles.Contains(Path.GetExtension(f), StringComparer.OrdinalIgnoreCase))
                        .Order(StringComparer.Ordinal).ToList();
                if (files.Count == 0)
                    problems.Add($"the trust folder '{path}' holds no certificate ({string.Join(", ", s_certificateFiles)})");
                files.ForEach(f => trust.Add(f, problems));
            }
            else
                trust.Add(path, problems);
        }
        return problems.Count == 0 ? trust
            : throw VembarException.Input("bad-certificate", problems[0],
            "Name files that hold certificates in PEM or DER form, or a folder of them.", [.. problems.Skip(1)]);
    }

    private void Add(string path, List<string> problems)
    {
        const long LongestCertificate = 16 << 20;
        try
        {
            if (new FileInfo(path).Length > LongestCertificate)
                throw new CryptographicException("it is too long");
            var bytes = InputFile.ReadAllBytes(path);
            var before = _trusted.Count;
            if (bytes.AsSpan().IndexOf("-----BEGIN CERTIFICATE-----"u8) >= 0)
                _trusted.ImportFromPem(System.Text.Encoding.Latin1.GetString(bytes));
            else if (path.EndsWith(".p7b", StringComparison.OrdinalIgnoreCase))
            {
                var bundle = new SignedCms();
                bundle.Decode(bytes);
                _trusted.AddRange(bundle.Certificates);
            }
            else
                _trusted.Add(X509CertificateLoader.LoadCertificate(bytes));
            if (_trusted.Count == before)
                problems.Add($"'{path}' holds no certificate");
        }
        catch (CryptographicException failure)
        {
            problems.Add($"'{path}' holds no certificate: {failure.Message.TrimEnd('.')}");
        }
        catch (Exception failure) when (failure is not VembarException
            && VembarException.From(failure, "read the certificate", path) is { } error)
        {
            problems.Add(error.Message);
        }
    }

    /// <summary>Whether a certificate leads to one that is trusted.</summary>
    /// <param name="certificate">The certificate.</param>
    /// <param name="further">Certificates that may stand between.</param>
    /// <param name="time">When it had to be valid, UTC.</param>
    /// <returns>Signed when it does; else Untrusted or Expired, and why, as the end of a sentence about the signer.</returns>
    public (SignatureState State, string Why) Chain(X509Certificate2 certificate, X509Certificate2Collection further, DateTime time)
    {
        using var chain = new X509Chain();
        chain.ChainPolicy.TrustMode = X509ChainTrustMode.CustomRootTrust;
        chain.ChainPolicy.CustomTrustStore.AddRange(_trusted);
        chain.ChainPolicy.ExtraStore.AddRange(further);
        chain.ChainPolicy.ExtraStore.AddRange(_trusted);
        chain.ChainPolicy.RevocationMode = X509RevocationMode.NoCheck;
        chain.ChainPolicy.DisableCertificateDownloads = true;
        chain.ChainPolicy.VerificationTime = time;
        chain.Build(certificate);
        // Up to the first that is trusted counts; that one may be an authority between or the signer's own.
        var links = chain.ChainElements.ToList();
        var anchor = links.FindIndex(l => _trusted.Any(t => t.RawDataMemory.Span.SequenceEqual(l.Certificate.RawDataMemory.Span)));
        if (anchor < 0)
            return (SignatureState.Untrusted, _trusted.Count == 0 ? "and no certificate was named as trusted"
                : $"whose certificate leads to {links[^1].Certificate.GetNameInfo(X509NameType.SimpleName, forIssuer: true)}, which is "
                + $"not trusted");
        const X509ChainStatusFlags Allowed =
            X509ChainStatusFlags.PartialChain | X509ChainStatusFlags.UntrustedRoot | X509ChainStatusFlags.NotTimeValid
        | X509ChainStatusFlags.RevocationStatusUnknown | X509ChainStatusFlags.OfflineRevocation;
        var bad = links.Take(anchor + 1).SelectMany(l => l.ChainElementStatus).FirstOrDefault(s => (s.Status & ~Allowed) != 0);
        if (bad.Status != X509ChainStatusFlags.NoError)
            return (SignatureState.Untrusted, $"whose certificate is not right: {bad.StatusInformation.TrimEnd('.')}");
        foreach (var link in links.Take(anchor + 1))
        {
            if (time > link.Certificate.NotAfter.ToUniversalTime())
                return (SignatureState.Expired,
                    string.Create(CultureInfo.InvariantCulture, $"ran out on {link.Certificate.NotAfter.ToUniversalTime():yyyy-MM-dd}"));
            if (time < link.Certificate.NotBefore.ToUniversalTime())
                return (SignatureState.Expired, string.Create(CultureInfo.InvariantCulture,
                    $"is valid from {link.Certificate.NotBefore.ToUniversalTime():yyyy-MM-dd} only"));
        }
        return (SignatureState.Signed, "");
    }
}
