using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Operations.Deploy;
using Vembar.Volumes.Sources;
using Vembar.Windows.Inspection;
using Vembar.Windows.Servicing.Drivers;
using Vembar.Windows.Servicing.Files;
using Xunit;

namespace Vembar.Tests;

/// <summary>How an install can start: told, and kept from disks that are for something else.</summary>
public sealed class FirmwareTests(DemoFixture demo) : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    private string Archive => File.Exists(_folder.At("desk.vmb")) ? _folder.At("desk.vmb") : demo.CopyArchive(_folder);

    private ImageRecord Without(string name, params string[] paths) =>
        Do.Service($"{Archive}#1", name, [.. paths.Select(p => new RemoveChange(p))]).Image;

    [Fact]
    public void TheRecordSaysWhatItStartsBy()
    {
        var image = Do.Record(ImageReference.Parse($"{demo.Archive}#1"));
        Assert.Equal((true, true, false), (image.Firmware!.Uefi, image.Firmware.Bios, image.Firmware.IsSigned));
        Assert.Equal(["unsigned", "unsigned"], image.Firmware.BootFiles.Select(f => f.State));
        Assert.Equal((true, false), Of(Without("uefi", "Windows/Boot/PCAT")));
        Assert.Equal((false, true), Of(Without("bios", "Windows/Boot/EFI")));
        static (bool, bool) Of(ImageRecord record) => (record.Firmware!.Uefi, record.Firmware.Bios);
    }

    [Fact]
    public void ADiskForOtherFirmwareIsRefusedUnlessToldOtherwise()
    {
        Without("uefi only", "Windows/Boot/PCAT");
        DeployResult Deploy(string layout, bool accept) =>
            Do.Deploy($"{Archive}#uefi only", _folder.At($"{layout}-{accept}.img"), r => r with
            {
                Size = 2L << 30,
                Layout = layout,
                AcceptMisfit = accept,
                Verify = false,
            });
        var problem = Assert.Throws<VembarException>(() => Deploy("bios", false));
        Assert.Equal("does-not-fit", problem.Code);
        Assert.False(File.Exists(_folder.At("bios-False.img")));
        Assert.NotEmpty(Deploy("bios", true).Warnings);
        Deploy("uefi", false);
    }

    [Fact]
    public void ModelsThatItWasServicedForAreKept()
    {
        var profile = HardwareProfile.Read(demo.At("hardware/oakmere-m4.yaml"));
        var image = Do.Service($"{Archive}#1", "serviced", new DriverChange([demo.At("drivers")], new DriverOptions
        {
            Trust = demo.Trust,
            For = [profile],
        })).Image;
        Assert.Equal([profile.Model], image.Models);
        Assert.Equal([profile.Model], Do.Service($"{Archive}#serviced", "again", new RemoveChange("Windows/Boot/PCAT")).Image.Models);
    }

    [Fact]
    public void SignaturesOfBootFilesAreChecked()
    {
        var plain = Path.Combine(demo.Reference("lending-desk"), "Windows/Boot/EFI/bootmgfw.efi");
        Assert.Equal(SignatureState.Unsigned, ProgramSignature.Of(File.ReadAllBytes(plain)).State);
        Tools.Run("openssl", ["req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", "key.pem", "-out", "cert.pem", "-subj",
            "/CN=Tarn Valley Boot", "-addext", "extendedKeyUsage=codeSigning"], _folder.Path);
        Tools.Run("osslsigncode", ["sign", "-h", "sha256", "-certs", "cert.pem", "-key", "key.pem", "-in", plain, "-out", "signed.efi"],
            _folder.Path);
        var signed = File.ReadAllBytes(_folder.At("signed.efi"));
        Assert.Equal((SignatureState.Signed, "Tarn Valley Boot"), (ProgramSignature.Of(signed).State, ProgramSignature.Of(signed).Signer));
        signed[0x600] ^= 1;
        Assert.Equal(SignatureState.WrongHash, ProgramSignature.Of(signed).State);
        signed[0x600] ^= 1;
        signed[^100] ^= 1;
        Assert.NotEqual(SignatureState.Signed, ProgramSignature.Of(signed).State);
        var image = Do.Service($"{Archive}#1", "signed", new PutChange(_folder.At("signed.efi"), "Windows/Boot/EFI/bootmgfw.efi")).Image;
        Assert.Equal(("signed", "Tarn Valley Boot"), (image.Firmware!.BootFiles[0].State, image.Firmware.BootFiles[0].Signer));
    }

    [Theory]
    [InlineData("GENERALIZE OOBE SHUTDOWN", false)]
    [InlineData("GENERALIZE OOBE MODE", true)]
    [InlineData("MODE GENERALIZE", true)]
    [InlineData("AUDIT", null)]
    [InlineData("GENERALIZE MODE | GENERALIZE OOBE", false)]
    [InlineData("GENERALIZE OOBE | GENERALIZE OOBE MODE", true)]
    [InlineData("", null)]
    public void TheLogTellsHowItWasGeneralized(string runs, bool? isVirtualOnly)
    {
        var lines = runs.Split('|').SelectMany(run => run.Split(' ', StringSplitOptions.RemoveEmptyEntries)
            .Select(o => $"2026-11-01 10:00:00, Info SYSPRP ParseCommands:Found supported command line option '{o}'")
            .Append("2026-11-01 10:00:01, Info SYSPRP something else"));
        _folder.Write("install/Windows/System32/Sysprep/Panther/setupact.log", string.Join("\r\n", lines));
        using var source = FolderSource.Open(_folder.At("install"));
        Assert.Equal(isVirtualOnly, GeneralizeLog.Read(source, "Windows") is { } log ? GeneralizeLog.IsVirtualOnly(log) : null);
    }
}
