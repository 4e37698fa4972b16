using System.Security.Cryptography.X509Certificates;
using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Windows.Servicing.Drivers;

namespace Vembar.Operations.Sign;

/// <summary>Those who may sign images.</summary>
public sealed class ImageTrust
{
    private readonly TrustedCertificates _trusted;

    private ImageTrust(TrustedCertificates trusted) => _trusted = trusted;

    /// <summary>Loads their certificates, or those of who vouches for them.</summary>
    /// <param name="paths">Files and folders; none for no demand.</param>
    /// <returns>Null where none were named: then nothing has to be signed.</returns>
    /// <exception cref="VembarException">One is missing or holds no certificate.</exception>
    public static ImageTrust? Load(IReadOnlyList<string> paths) =>
        paths.Count == 0 ? null : new ImageTrust(TrustedCertificates.Load(paths));

    /// <summary>Looks for a signature by somebody trusted.</summary>
    /// <returns>Who signed it, or what is wrong.</returns>
    public SignatureFinding Look(ImageRecord image)
    {
        var why = new List<string>();
        foreach (var signature in image.Signatures ?? [])
        {
            if (ImageSigning.Problem(image, signature, out var message) is { } problem)
            {
                why.Add($"the signature of {signature.Signer}: {problem}");
                continue;
            }
            var certificate = message!.SignerInfos[0].Certificate!;
            var name = certificate.GetNameInfo(X509NameType.SimpleName, forIssuer: false);
            if (ImageSigning.TimeOf(message) is not { } time)
            {
                why.Add($"the signature of {name} does not say when it was made");
                continue;
            }
            var (state, reason) = _trusted.Chain(certificate, message.Certificates, time);
            if (state == SignatureState.Signed)
                return new SignatureFinding(image.Number, image.Title, name, "");
            why.Add(state == SignatureState.Expired ? $"the certificate of {name} {reason}, and it signed when it was not valid"
                : $"signed by {name}, {reason}");
        }
        return new SignatureFinding(image.Number, image.Title, null, why.Count > 0 ? string.Join("; ", why) : "nobody signed it");
    }

    /// <summary>Refuses an image that nobody trusted signed.</summary>
    /// <exception cref="VembarException">Nobody trusted did.</exception>
    public void Demand(ImageRecord image, string archive)
    {
        if (Look(image) is { Signer: null } finding)
            throw VembarException.Input("not-signed",
                $"image {image.Number} {image.Title} of '{archive}' is not signed by anybody trusted: "
                + finding.Why, Advice.Of("not-signed"));
    }
}
