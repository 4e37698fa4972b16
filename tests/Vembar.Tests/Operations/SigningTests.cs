using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Operations.Deploy;
using Vembar.Operations.Files;
using Vembar.Operations.History;
using Vembar.Operations.Mark;
using Vembar.Operations.Sign;
using Vembar.Operations.Verify;
using Vembar.Store.Reading;
using Vembar.Windows.Servicing.Files;
using Xunit;

namespace Vembar.Tests;

/// <summary>Who signed an image, and that nothing else is taken for signed. Keys, certificates and checks beside ours are
/// OpenSSL's.</summary>
public sealed class SigningTests : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    private string Archive
    {
        get
        {
            var path = _folder.At("a.vmb");
            if (!File.Exists(path))
            {
                _folder.Write("src/file", "content");
                Do.Capture(_folder.At("src"), path, "Desk", r => r with { Version = "1" });
                Do.Capture(_folder.At("src"), path, "Desk", r => r with { Version = "2" });
            }
            return path;
        }
    }

    private void OpenSsl(params string[] arguments) => Tools.Run("openssl", arguments, _folder.Path);

    // An authority, and whom it vouches for.
    private void Authority(string name, params string[] signers)
    {
        OpenSsl("req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", $"{name}.key", "-out", $"{name}.pem", "-days", "3650", "-subj",
            $"/CN={name}");
        foreach (var signer in signers)
        {
            OpenSsl("req", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-keyout", $"{signer}.key", "-out",
                $"{signer}.csr", "-subj", $"/CN={signer}");
            OpenSsl("x509", "-req", "-in", $"{signer}.csr", "-CA", $"{name}.pem", "-CAkey", $"{name}.key", "-CAcreateserial", "-out",
                $"{signer}.pem", "-days", "3000");
        }
    }

    private static TResult Run<TRequest, TResult>(IOperationHandler<TRequest, TResult> handler, TRequest request) =>
        handler.HandleAsync(request, NoProgress.Instance, default).GetAwaiter().GetResult();

    private ImageRecord Sign(string which, string signer, string? certificate = null, OperationHost? host = null) =>
        Run(new SignHandler(host ?? OperationHost.Default), new SignRequest(ImageReference.Parse($"{Archive}#{which}"),
            _folder.At($"{certificate ?? signer}.pem"), _folder.At($"{signer}.key"), () => "word", default));

    private IReadOnlyList<SignatureFinding> Verify(string archive, params string[] trusted) => Run(new VerifyHandler(OperationHost.Default),
        new VerifyRequest(archive, ImageTrust.Load([.. trusted.Select(t => _folder.At($"{t}.pem"))]))).Signatures!;

    private string? Signer(string archive, int number, params string[] trusted) =>
        Verify(archive, trusted).Single(s => s.Image == number).Signer;

    [Fact]
    public void WhoIsTrustedIsTheSignerOrWhoVouchesForHim()
    {
        Authority("root", "publisher", "second");
        Authority("other", "stranger");
        Sign("1", "publisher");
        Assert.Equal("publisher", Signer(Archive, 1, "root"));
        Assert.Equal("publisher", Signer(Archive, 1, "publisher"));
        Assert.Null(Signer(Archive, 1, "other"));
        Assert.Null(Signer(Archive, 1, "second"));
        Assert.Null(Signer(Archive, 2, "root"));
        Assert.False(Run(new VerifyHandler(OperationHost.Default),
            new VerifyRequest(Archive, ImageTrust.Load([_folder.At("root.pem")]))).Ok);
        // Several may sign; each again replaces his own.
        Sign("1", "stranger");
        Sign("1", "publisher");
        Assert.Equal(2, Do.Record(ImageReference.Parse($"{Archive}#1")).Signatures!.Count);
        Assert.Equal("stranger", Signer(Archive, 1, "other"));
        Assert.Equal("publisher", Signer(Archive, 1, "publisher"));
    }

    [Fact]
    public void ASignatureIsOfThatImageAndNameAndVersionAlone()
    {
        Authority("root", "publisher");
        Sign("1", "publisher");
        // Marks and remarks are not what was signed.
        Do.Mark(new MarkRequest { Image = ImageReference.Parse($"{Archive}#1"), Channels = ["pilot"], Locked = true });
        Do.Retitle(new RetitleRequest { Image = ImageReference.Parse($"{Archive}#1"), Note = "n" });
        Assert.Equal("publisher", Signer(Archive, 1, "root"));
        // It goes along where name and version stay.
        var other = _folder.At("b.vmb");
        Do.Copy(ImageReference.Parse($"{Archive}#1"), other);
        Assert.Equal("publisher", Signer(other, 1, "root"));
        Do.Copy(ImageReference.Parse($"{Archive}#1"), other, "Bench");
        Assert.Null(Signer(other, 2, "root"));
        // Another version under the same signature is not signed.
        Do.Retitle(new RetitleRequest { Image = ImageReference.Parse($"{Archive}#1"), Version = "3" });
        Assert.Contains("something else", Verify(Archive, "root")[0].Why, StringComparison.Ordinal);
        Do.Retitle(new RetitleRequest { Image = ImageReference.Parse($"{Archive}#1"), Version = "1" });
        Assert.Equal("publisher", Signer(Archive, 1, "root"));
        // What is made of it is not what was signed.
        Do.Mark(new MarkRequest { Image = ImageReference.Parse($"{Archive}#1"), Locked = false });
        var made = Do.Capture(_folder.At("src"), Archive, "Desk", r => r with { Version = "4" }).Image;
        Sign($"{made.Number}", "publisher");
        using (var writer = Do.Write(Archive, create: false))
        {
            // A signature that was taken from another image.
            var victim = writer.Base.Find("2");
            writer.CommitImage(victim with { Signatures = writer.Base.Find($"{made.Number}").Signatures }, 2, "forged");
        }
        Assert.Null(Signer(Archive, 2, "root"));
    }

    [Fact]
    public void DamagedSignaturesAreNone()
    {
        Authority("root", "publisher");
        var signed = Sign("1", "publisher").Signatures![0];
        foreach (var cms in (byte[][])[[], [1, 2, 3], signed.Cms[..^5],
            [.. signed.Cms.Select((b, i) => i == signed.Cms.Length - 3 ? (byte)~b : b)]])
        {
            using (var writer = Do.Write(Archive, create: false))
                writer.CommitImage(writer.Base.Find("1") with { Signatures = [signed with { Cms = cms }] }, 1, "damaged");
            Assert.Null(Signer(Archive, 1, "root"));
        }
    }

    [Fact]
    public void ADeploymentRefusesWhatNobodyTrustedSigned()
    {
        Authority("root", "publisher");
        Sign("1", "publisher");
        DeployResult Deploy(string which) => Do.Deploy($"{Archive}#{which}", _folder.At($"out{which}"), r => r with
        {
            SignedBy = ImageTrust.Load([_folder.At("root.pem")]),
        });
        Assert.Equal("not-signed", Assert.Throws<VembarException>(() => Deploy("2")).Code);
        Assert.False(Directory.Exists(_folder.At("out2")));
        Deploy("1");
    }

    [Fact]
    public void OpenSslChecksWhatIsHandedOut()
    {
        Authority("root", "publisher");
        Sign("1", "publisher");
        var to = _folder.At("handed");
        Run(new StatementHandler(OperationHost.Default), new StatementRequest(ImageReference.Parse($"{Archive}#1"), to));
        string[] check = ["cms", "-verify", "-binary", "-inform", "DER", "-in", "signature-1.p7s", "-content", "statement.json", "-CAfile",
            _folder.At("root.pem"), "-purpose", "any", "-out", "/dev/null"];
        Tools.Run("openssl", check, to);
        File.AppendAllText(Path.Combine(to, "statement.json"), " ");
        Assert.NotEqual(0, Tools.Try("openssl", check, to).Code);
        Assert.Equal("target-exists", Assert.Throws<VembarException>(() => Run(new StatementHandler(OperationHost.Default),
            new StatementRequest(ImageReference.Parse($"{Archive}#1"), to))).Code);
        Assert.Equal("not-signed", Assert.Throws<VembarException>(() => Run(new StatementHandler(OperationHost.Default),
            new StatementRequest(ImageReference.Parse($"{Archive}#2"), _folder.At("none")))).Code);
    }

    [Fact]
    public void KeysThatCannotSignAreRefusedBeforeAnythingIsWritten()
    {
        Authority("root", "publisher", "second");
        var before = File.ReadAllBytes(Archive);
        Assert.Equal("bad-key", Assert.Throws<VembarException>(() => Sign("1", "publisher", certificate: "second")).Code);
        _folder.Write("nothing.key", "nothing");
        Assert.Equal("bad-key", Assert.Throws<VembarException>(() => Sign("1", "nothing", certificate: "second")).Code);
        Assert.Equal("not-found", Assert.Throws<VembarException>(() => Sign("1", "nowhere", certificate: "second")).Code);
        var late = new OperationHost { Clock = new FixedClock(new DateTime(2090, 1, 1, 0, 0, 0, DateTimeKind.Utc)) };
        Assert.Contains("not now", Assert.Throws<VembarException>(() => Sign("1", "publisher", host: late)).Message,
            StringComparison.Ordinal);
        Assert.Equal(before, File.ReadAllBytes(Archive));
        OpenSsl("pkcs8", "-topk8", "-in", "publisher.key", "-out", "locked.key", "-passout", "pass:word");
        Sign("1", "locked", certificate: "publisher");
        Assert.Equal("publisher", Signer(Archive, 1, "root"));
    }
}
