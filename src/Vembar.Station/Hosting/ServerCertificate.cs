using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using Vembar.Common;

namespace Vembar.Station.Hosting;

/// <summary>The certificate that a station shows: its own authority's, made anew before it ends, or the one that its file names, read anew
/// each hour, as somebody renews it.</summary>
public sealed class ServerCertificate(StationOptions options, TimeProvider clock)
{
    private static readonly TimeSpan s_own = TimeSpan.FromDays(30), s_named = TimeSpan.FromHours(1);
    private readonly Lock _gate = new();
    private X509Certificate2? _present;
    private DateTimeOffset _until;

    /// <summary>The certificate.</summary>
    /// <exception cref="VembarException">There was none before, and it cannot be read or made.</exception>
    public X509Certificate2 Present()
    {
        lock (_gate)
        {
            if (_present is not null && clock.GetUtcNow() < _until)
                return _present;
            try
            {
                // One that is being shown is left to the collector.
                _present = options.Certificate is var (certificate, key) ? Read(certificate, key)
                    : Authority.Issue(options.Data, options.Addresses.Select(a => new Uri(a).Host.Trim('[', ']')), clock.GetUtcNow());
            }
            catch (VembarException) when (_present is not null)
            {
                // The old one may do a while.
            }
            _until = clock.GetUtcNow() + (options.Certificate is null ? s_own : s_named);
            return _present;
        }
    }

    private static X509Certificate2 Read(string certificate, string key)
    {
        try
        {
            using var read = X509Certificate2.CreateFromPemFile(certificate, key);
            // TLS wants a key that is not only in this call.
            return X509CertificateLoader.LoadPkcs12(read.Export(X509ContentType.Pkcs12), null);
        }
        catch (CryptographicException)
        {
            throw VembarException.Input("bad-certificate", $"'{certificate}' and '{key}' are no certificate with its key",
                "Name PEM files.");
        }
        catch (Exception failure) when (VembarException.From(failure, "read", certificate) is { } error)
        {
            throw error;
        }
    }
}
