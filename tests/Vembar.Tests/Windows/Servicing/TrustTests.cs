using System.Security.Cryptography;
using System.Security.Cryptography.Pkcs;
using System.Security.Cryptography.X509Certificates;
using CsCheck;
using Vembar.Common;
using Vembar.Windows.Servicing.Drivers;
using Xunit;

namespace Vembar.Tests;

/// <summary>Signatures of drivers, made with openssl and broken in every way.</summary>
public class TrustTests(DemoFixture demo)
{
    private static readonly WindowsTarget s_windows = new("amd64", 10, 26100);

    // A copy of the demo's storage driver that may be spoiled.
    private string Copy(TempFolder folder)
    {
        Tools.Run("cp", ["-r", demo.Driver("corrin-storage"), folder.At("driver")]);
        return folder.At("driver");
    }

    private static DriverSignature Check(string driver, DriverTrust trust) =>
        trust.Check(DriverPackage.Read(Path.Combine(driver, "corstor.inf")).For(s_windows));

    [Fact]
    public void EveryKindOfDoubtHasItsWord()
    {
        using var folder = new TempFolder();
        var driver = Copy(folder);
        Assert.Equal("signed", Check(driver, demo.Trust).Word);
        Assert.Equal("Fellview Hardware Signing", Check(driver, demo.Trust).Signer);
        Assert.Contains("no certificate was named", Check(driver, DriverTrust.Nobody).Why, StringComparison.Ordinal);

        Tools.Run("openssl", ["req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", folder.At("k.pem"), "-out",
            folder.At("other.pem"), "-subj", "/CN=Somebody else", "-days", "10"]);
        var other = Check(driver, DriverTrust.Load([folder.At("other.pem")]));
        Assert.Equal(SignatureState.Untrusted, other.State);
        Assert.Contains("leads to Fellview Hardware Signing Root, which is not trusted", other.Why, StringComparison.Ordinal);

        var program = Path.Combine(driver, "x64/corstor.sys");
        var bytes = File.ReadAllBytes(program);
        // Its checksum is not part of what is signed; one byte of its code is.
        var checksum = BitConverter.ToInt32(bytes, 0x3C) + 24 + 64;
        bytes[checksum] ^= 1;
        File.WriteAllBytes(program, bytes);
        Assert.Equal("signed", Check(driver, demo.Trust).Word);
        bytes[5000] ^= 1;
        File.WriteAllBytes(program, bytes);
        Assert.Equal(("wrong-hash", "not as it was signed: x64/corstor.sys"),
            (Check(driver, demo.Trust).Word, Check(driver, demo.Trust).Why));
        bytes[5000] ^= 1;
        File.WriteAllBytes(program, bytes);
        File.AppendAllText(Path.Combine(driver, "corstor.inf"), "; one more remark\r\n");
        Assert.Equal("not as it was signed: corstor.inf", Check(driver, demo.Trust).Why);
        File.Copy(Path.Combine(demo.Driver("corrin-storage"), "corstor.inf"), Path.Combine(driver, "corstor.inf"), overwrite: true);

        var catalog = Path.Combine(driver, "corstor.cat");
        File.WriteAllBytes(catalog, File.ReadAllBytes(program));
        Assert.Equal("bad-catalog", Check(driver, demo.Trust).Word);
        File.Delete(catalog);
        Assert.Equal("unsigned", Check(driver, demo.Trust).Word);
    }

    [Fact]
    public void AnAuthorityBetweenOrTheSignerItselfCanBeTrusted()
    {
        var message = new SignedCms();
        message.Decode(File.ReadAllBytes(Path.Combine(demo.Driver("corrin-storage"), "corstor.cat")));
        using var folder = new TempFolder();
        File.WriteAllBytes(folder.At("signer.cer"), message.Certificates[0].RawData);
        Assert.Equal("signed", Check(demo.Driver("corrin-storage"), DriverTrust.Load([folder.Path])).Word);
    }

    // Signs the demo's list anew, with openssl, by a certificate that ends soon.
    private string Signed(TempFolder folder, DateTimeOffset from, DateTimeOffset to, string purpose = "1.3.6.1.5.5.7.3.3")
    {
        var driver = Copy(folder);
        using var rootKey = RSA.Create(2048);
        var rootRequest = new CertificateRequest("CN=Test Root", rootKey, HashAlgorithmName.SHA256, RSASignaturePadding.Pkcs1);
        rootRequest.CertificateExtensions.Add(new X509BasicConstraintsExtension(true, false, 0, true));
        using var root = rootRequest.CreateSelfSigned(from.AddDays(-1), from.AddYears(5));
        File.WriteAllText(folder.At("root.pem"), root.ExportCertificatePem());
        foreach (var (name, use, until) in ((string, string, DateTimeOffset)[])[("signer", purpose, to),
            ("stamper", "1.3.6.1.5.5.7.3.8", from.AddYears(4))])
        {
            using var key = RSA.Create(2048);
            var request = new CertificateRequest($"CN=Test {name}", key, HashAlgorithmName.SHA256, RSASignaturePadding.Pkcs1);
            request.CertificateExtensions.Add(new X509EnhancedKeyUsageExtension([new Oid(use)], true));
            using var made = request.Create(root, from, until, [(byte)name.Length, 7]);
            File.WriteAllText(folder.At($"{name}.pem"), made.ExportCertificatePem());
            File.WriteAllText(folder.At($"{name}-key.pem"), key.ExportPkcs8PrivateKeyPem());
        }
        var catalog = Path.Combine(driver, "corstor.cat");
        var list = new SignedCms();
        list.Decode(File.ReadAllBytes(catalog));
        File.WriteAllBytes(folder.At("list"), list.ContentInfo.Content);
        Tools.Run("openssl", ["cms", "-sign", "-binary", "-nodetach", "-econtent_type", "1.3.6.1.4.1.311.10.1", "-md", "sha256", "-in",
            folder.At("list"), "-signer", folder.At("signer.pem"), "-inkey", folder.At("signer-key.pem"), "-outform", "DER", "-out",
            catalog]);
        return driver;
    }

    [Fact]
    public void WhatOpensslSignsAndStampsIsBelievedAfterTheCertificateRanOut()
    {
        using var folder = new TempFolder();
        // Stamped now, while it is good; looked at when it has run out.
        var ends = DateTimeOffset.UtcNow.AddDays(1);
        var driver = Signed(folder, DateTimeOffset.UtcNow.AddDays(-30), ends);
        var trust = DriverTrust.Load([folder.At("root.pem")]);
        Assert.Equal("signed", Check(driver, trust).Word);

        var catalog = Path.Combine(driver, "corstor.cat");
        var message = new SignedCms();
        message.Decode(File.ReadAllBytes(catalog));
        File.WriteAllBytes(folder.At("signature"), message.SignerInfos[0].GetSignature());
        folder.Write("tsa.cnf",
            $"[tsa]\ndefault_tsa = it\n[it]\nserial = {folder.At("serial")}\ndefault_policy = 1.2.3.4\ndigests = sha256\nsigner_digest "
            + $"= sha256\naccuracy = secs:1\nordering = yes\ness_cert_id_chain = no\n");
        Tools.Run("openssl", ["ts", "-query", "-data", folder.At("signature"), "-sha256", "-cert", "-out", folder.At("query")]);
        Tools.Run("openssl", ["ts", "-reply", "-config", folder.At("tsa.cnf"), "-queryfile", folder.At("query"), "-signer",
            folder.At("stamper.pem"), "-inkey", folder.At("stamper-key.pem"), "-token_out", "-out", folder.At("token")]);
        message.SignerInfos[0].AddUnsignedAttribute(new AsnEncodedData(new Oid("1.3.6.1.4.1.311.3.3.1"),
            File.ReadAllBytes(folder.At("token"))));
        var plain = File.ReadAllBytes(catalog);
        var stamped = message.Encode();
        trust = DriverTrust.Load([folder.At("root.pem")], new FixedClock(ends.AddHours(1)));

        var ranOut = Check(driver, trust);
        Assert.Equal("expired", ranOut.Word);
        Assert.Contains("there is no time-stamp", ranOut.Why, StringComparison.Ordinal);
        File.WriteAllBytes(catalog, stamped);
        var believed = Check(driver, trust);
        Assert.Equal("signed", believed.Word);
        Assert.NotNull(believed.Stamped);
        // A stamp of another signature is none.
        message.SignerInfos[0].RemoveUnsignedAttribute(message.SignerInfos[0].UnsignedAttributes[0].Values[0]);
        var other = new SignedCms();
        other.Decode(plain);
        folder.Write("signature", "another");
        Tools.Run("openssl", ["ts", "-query", "-data", folder.At("signature"), "-sha256", "-cert", "-out", folder.At("query")]);
        Tools.Run("openssl", ["ts", "-reply", "-config", folder.At("tsa.cnf"), "-queryfile", folder.At("query"), "-signer",
            folder.At("stamper.pem"), "-inkey", folder.At("stamper-key.pem"), "-token_out", "-out", folder.At("token")]);
        other.SignerInfos[0].AddUnsignedAttribute(new AsnEncodedData(new Oid("1.3.6.1.4.1.311.3.3.1"),
            File.ReadAllBytes(folder.At("token"))));
        File.WriteAllBytes(catalog, other.Encode());
        Assert.Contains("its time-stamp is not of this signature", Check(driver, trust).Why, StringComparison.Ordinal);
    }

    [Fact]
    public void ACertificateForSomethingElseIsNotTrusted()
    {
        using var folder = new TempFolder();
        var driver = Signed(folder, DateTimeOffset.UtcNow.AddDays(-1), DateTimeOffset.UtcNow.AddDays(1), purpose: "1.3.6.1.5.5.7.3.1");
        Assert.Contains("not one for signing code", Check(driver, DriverTrust.Load([folder.At("root.pem")])).Why, StringComparison.Ordinal);
    }

    [Fact]
    public void FilesThatHoldNoCertificateAreAllTold()
    {
        using var folder = new TempFolder();
        folder.Write("a.pem", "nothing");
        folder.Write("empty/readme", "");
        var problem = Assert.Throws<VembarException>(
            () => DriverTrust.Load([folder.At("a.pem"), folder.At("empty"), folder.At("none.pem")]));
        Assert.Equal("bad-certificate", problem.Code);
        Assert.Equal(2, problem.Details.Count);
    }

    [Fact]
    public void ChangedCatalogsAreNeverTakenForOthers()
    {
        var good = File.ReadAllBytes(Path.Combine(demo.Driver("corrin-storage"), "corstor.cat"));
        var content = File.ReadAllBytes(Path.Combine(demo.Driver("corrin-storage"), "corstor.inf"));
        Gen.Select(Gen.Int[0, good.Length - 1], Gen.Byte, Gen.Bool).Sample((at, flip, cut) =>
        {
            var bytes = cut ? good[..at] : [.. good];
            if (!cut)
                bytes[at] ^= flip;
            try
            {
                var catalog = SecurityCatalog.Parse(bytes, "x.cat");
                // Whoever still is taken for the signer signed this very list.
                if (demo.Trust.CheckSigner(catalog.Signature).State == SignatureState.Signed)
                    Assert.True(catalog.Covers(new MemoryStream(content)));
            }
            catch (VembarException problem)
            {
                Assert.Equal("bad-catalog", problem.Code);
            }
        }, iter: 2000);
    }

    [Fact]
    public void ACatalogCoversTheFilesThatItLists()
    {
        var catalog = SecurityCatalog.Parse(File.ReadAllBytes(Path.Combine(demo.Driver("brightwell-audio"), "bwaudio.cat")), "bwaudio.cat");
        foreach (var file in (string[])["bwaudio.inf", "rooms/kiosk.eqp", "bwaudio.sys", "tools/bwequal.dll"])
            Assert.True(catalog.Covers(File.OpenRead(Path.Combine(demo.Driver("brightwell-audio"), file))), file);
        var listed = Tools.Run("openssl",
            ["asn1parse", "-inform", "DER", "-in", Path.Combine(demo.Driver("brightwell-audio"), "bwaudio.cat")]);
        foreach (var file in (string[])["bwaudio.inf", "rooms/kiosk.eqp"])
            Assert.Contains(Tools.Run("sha256sum", [Path.Combine(demo.Driver("brightwell-audio"), file)])[..64], listed,
                StringComparison.OrdinalIgnoreCase);
        Assert.False(catalog.Covers(new MemoryStream([1, 2, 3])));
    }
}
