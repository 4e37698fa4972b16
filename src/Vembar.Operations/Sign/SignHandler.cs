using System.Globalization;
using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Store.Writing;

namespace Vembar.Operations.Sign;

/// <summary>Signs an image's statement and keeps the signature in its record.</summary>
public sealed class SignHandler(OperationHost host) : IOperationHandler<SignRequest, ImageRecord>
{
    /// <summary>Signs it. Another signature by the same certificate's name is replaced; those of others stay.</summary>
    /// <exception cref="VembarException">There is no such image, the key cannot sign, or the archive cannot be written.</exception>
    public async Task<ImageRecord> HandleAsync(SignRequest request, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        using var certificate = ImageSigning.Load(request.Certificate, request.Key, request.Password);
        var now = new DateTime(host.Now.Ticks / TimeSpan.TicksPerSecond * TimeSpan.TicksPerSecond, DateTimeKind.Utc);
        if (now > certificate.NotAfter.ToUniversalTime() || now < certificate.NotBefore.ToUniversalTime())
            throw VembarException.Input("bad-key", string.Create(CultureInfo.InvariantCulture,
                $"the certificate '{request.Certificate}' is valid from {certificate.NotBefore.ToUniversalTime():yyyy-MM-dd} to "
                + $"{certificate.NotAfter.ToUniversalTime():yyyy-MM-dd}, and not now"),
                "Use one that is valid.");
        using var writer = await ArchiveWriter.OpenAsync(request.Image.Archive, host.WriterOptions(request.Wait), cancellation)
            .ConfigureAwait(false);
        var image = writer.Base.Find(request.Image.Which, host.Clock);
        var signature = ImageSigning.Sign(ImageStatement.Of(image), certificate, now);
        return writer.CommitImage(image with
        {
            Signatures = [.. (image.Signatures ?? []).Where(s => s.Signer != signature.Signer), signature],
        }, image.Number, $"{Checks.Change("sign", image.Number, image)}: {signature.Signer}");
    }
}
