using CsCheck;
using Vembar.Common;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Store.Reading;
using Vembar.Windows.Registry;
using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Packages;
using Xunit;

namespace Vembar.Tests;

public class SecurityTextTests(DemoFixture demo)
{
    private static byte[] Parse(string text)
    {
        var bytes = SecurityText.Parse(text, out var problem);
        Assert.Equal((text, ""), (text, problem));
        return bytes!;
    }

    // The example of [MS-DTYP] 2.5.1.4, whose bytes that page prints: control word, lists and identifiers.
    [Fact]
    public void ThePublishedExampleGivesItsBytes()
    {
        var bytes = Parse("O:BAG:SYD:P(A;CIOI;GRGX;;;BU)(A;CIOI;GA;;;BA)(A;CIOI;GA;;;SY)(A;CIOI;GA;;;CO)S:P(AU;FA;GR;;;WD)");
        Assert.StartsWith("010014B0", Convert.ToHexString(bytes), StringComparison.Ordinal);
        var hex = Convert.ToHexString(bytes);
        Assert.Contains("02001C000100000002801400000000800101000000000001" + "00000000", hex, StringComparison.Ordinal);
        Assert.Contains("0200600004000000" + "00031800000000A001020000000000052000000021020000"
            + "00031800000000100102000000000005200000002002" + "0000" + "0003140000000010010100000000000512000000"
            + "0003140000000010010100000000000300000000", hex, StringComparison.Ordinal);
        Assert.Equal("01020000000000052000000020020000", hex.Substring(2 * BitConverter.ToInt32(bytes, 4), 32));
        Assert.Equal("010100000000000512000000", hex.Substring(2 * BitConverter.ToInt32(bytes, 8), 24));
        Assert.Equal("O:BAG:SYD:P(A;OICI;GXGR;;;BU)(A;OICI;GA;;;BA)(A;OICI;GA;;;SY)(A;OICI;GA;;;CO)S:P(AU;FA;GR;;;WD)",
            SecurityText.Format(bytes));
    }

    [Theory]
    [InlineData("", "it is empty")]
    [InlineData("BA", "makes no sense")]
    [InlineData("O:BAO:SY", "'O:' stands there twice")]
    [InlineData("O:DA", "'DA' is nobody that every machine knows")]
    [InlineData("O:S-1-5-x", "is not an identifier")]
    [InlineData("O:S-1-5-4294967296", "is not an identifier")]
    [InlineData("D:X(A;;FA;;;BA)", "are not flags of a list")]
    [InlineData("D:(A;;FA;;;BA", "makes no sense")]
    [InlineData("D:(A;FA;BA)", "is not an entry")]
    [InlineData("D:(XX;;FA;;;BA)", "is not a type")]
    [InlineData("D:(A;ZZ;FA;;;BA)", "are not flags")]
    [InlineData("D:(A;;F;;;BA)", "are not rights")]
    [InlineData("D:(A;;0xfffffffff;;;BA)", "are not rights")]
    [InlineData("D:(A;;FA;;;)", "is not an identifier")]
    public void WhatIsNoneIsSaid(string text, string expected)
    {
        Assert.Null(SecurityText.Parse(text, out var problem));
        Assert.Contains(expected, problem, StringComparison.Ordinal);
    }

    [Fact]
    public void TextAndBytesSayTheSame()
    {
        var sid = Gen.OneOf(Gen.Int[0, 3].Select(i => new[] { "BA", "SY", "WD", "LW" }[i]),
            Gen.UInt.Array[1, 5].Select(p => $"S-1-5-{string.Join('-', p)}"));
        var ace = Gen.Select(Gen.Int[0, 4], Gen.Int[0, 127], Gen.UInt, sid).Select((type, flags, mask, who) =>
            $"({new[] { "A", "D", "AU", "AL", "ML" }[type]};"
            + $"{string.Concat(new[] { "OI", "CI", "NP", "IO", "ID", "SA", "FA" }.Where((_, i) => (flags & (1 << i)) != 0))};"
            + $"0x{mask:x};;;{who})");
        Gen.Select(sid, sid, ace.Array[0, 6], ace.Array[0, 3], Gen.Int[0, 7]).Sample((owner, group, dacl, sacl, flags) =>
        {
            var marks = ((flags & 1) != 0 ? "P" : "") + ((flags & 2) != 0 ? "AI" : "");
            var audit = sacl.Length > 0 ? $"S:{string.Concat(sacl)}" : "";
            var text = $"O:{owner}G:{group}D:{marks}{string.Concat(dacl)}{audit}";
            var bytes = Parse(text);
            var shown = SecurityText.Format(bytes);
            Assert.NotNull(shown);
            Assert.Equal(bytes, Parse(shown));
        });
    }

    [Fact]
    public void WhateverTheBytesAreTheyAreReadOrNot()
    {
        var good = Parse("O:BAG:SYD:P(A;CIOI;GRGX;;;BU)(A;;FA;;;BA)S:(ML;;NW;;;LW)");
        Gen.Select(Gen.Int[0, good.Length - 1], Gen.Byte, Gen.Int[0, good.Length]).Sample((at, value, cut) =>
        {
            var spoiled = good.ToArray();
            spoiled[at] = value;
            SecurityText.Format(spoiled);
            SecurityText.Format(spoiled.AsSpan(0, cut));
        });
        Gen.String[Gen.Char["OGDS:;()APRIFXBWY0x1-"], 0, 40].Sample(text =>
        {
            var bytes = SecurityText.Parse(text, out var problem);
            Assert.Equal(bytes is null, problem.Length > 0);
        }, iter: 20_000);
    }

    [Fact]
    public void APackageGivesItsFilesTheirSecurity()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        const string Text = "O:BAG:SYD:P(A;;FA;;;BA)(A;;FR;;;BU)";
        folder.Write("p/package.yaml",
            $"name: locked\nversion: 1\nkind: settings\nfiles:\n  - from: f\n    to: House/locked.txt\n    security: {Text}\n");
        folder.Write("p/f", "x");
        Package.Make(folder.At("p"), folder.At("p.zip"));
        var root = Do.Show(ImageReference.Parse(archive)).Image.Root;
        Assert.Equal(ChangeStatus.Done, Do.Service(archive, null, new PackageChange([folder.At("p.zip")])).Changes.Single().Status);
        using (var reader = ArchiveReader.Open(archive))
        {
            var entry = new ImageTree(reader, reader.Find("1").Root, "x").Find(WindowsPath.Parse("House/locked.txt"))!;
            Assert.Equal(Text, SecurityText.Format(reader.Read(entry.Security).Span));
        }
        Assert.True(Do.Verify(archive).Ok);
        Assert.Equal(root, Do.Service(archive, null, new PackageRemoval("locked")).Image.Root);
        Assert.Contains("'security': 'DA' is nobody",
            Assert.Throws<VembarException>(() => PackageManifest.Parse("name: a\nversion: 1\nkind: settings\nfiles:\n  - from: f\n    "
            + "to: x\n    security: 'O:DA'\n", "p")).Message, StringComparison.Ordinal);
    }
}
