using CsCheck;
using Vembar.Common;
using Vembar.Common.Formats;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Native;
using Vembar.Store.Format;
using Vembar.Store.Hashing;
using Xunit;

namespace Vembar.Tests;

public class FormatTests
{
    private static readonly Gen<string> s_anyText = Gen.Char['\u0001', '\uFFFF'].Array[0, 40].Select(c => new string(c));

    [Fact]
    public void NumbersAndTextsComeBack() =>
        Gen.Select(Gen.ULong, s_anyText, Gen.Byte.Array[0, 50]).Sample((number, text, bytes) =>
        {
            var written = new BinaryFormatWriter().Number(number).Text(text).Block(bytes).UInt64(number).UInt32((uint)number)
                .UInt16((ushort)number).Written.ToArray();
            var reader = new BinaryFormatReader(written, "test");
            var same = reader.Number() == number && reader.Text() == text && reader.Block().SequenceEqual(bytes)
                && reader.UInt64() == number && reader.UInt32() == (uint)number && reader.UInt16() == (ushort)number;
            reader.End();
            return same;
        });

    [Fact]
    public void EveryUtf16NameKeepsItsForm() => s_anyText.Sample(text => Wtf8.Decode(Wtf8.Encode(text)) == text);

    [Fact]
    public void EveryLinuxNameHasATextOfItsOwn() =>
        Gen.Byte[1, 255].Array[1, 60].Sample(bytes =>
        {
            var text = PosixName.Decode(bytes);
            return PosixName.TryEncode(text, out var back) && back.AsSpan(0, back.Length - 1).SequenceEqual(bytes);
        });

    [Fact]
    public void NamesThatLinuxCannotWriteAreSaid() =>
        Assert.All(["a\0b", "\uD800", "\uDC20x"], name => Assert.False(PosixName.TryEncode(name, out _)));

    [Fact]
    public void HostileBytesNeverReadBeyondTheEnd() =>
        Gen.Byte.Array[0, 30].Sample(bytes =>
        {
            try
            {
                var reader = new BinaryFormatReader(bytes, "test");
                while (reader.Left > 0)
                {
                    reader.Number();
                    reader.Text();
                    reader.Id();
                }
            }
            catch (BinaryFormatException)
            {
                // That is what it is for.
            }
        });

    [Fact]
    public void AnErrorNamesItsPlace()
    {
        var problem = Assert.Throws<BinaryFormatException>(() =>
        {
            var reader = new BinaryFormatReader([1, 2, 200], "page");
            reader.Byte();
            reader.Byte();
            reader.Block();
        });
        Assert.Contains("page, byte 3", problem.Message, StringComparison.Ordinal);
    }

    [Fact]
    public void TimesComeBackToTheNanosecond() =>
        Gen.Select(Gen.Long[-11_000_000_000, 200_000_000_000], Gen.UInt[0, 999_999_999]).Sample((seconds, nanoseconds) =>
        {
            var time = new PosixTime(seconds, nanoseconds);
            return FileTime.From(time).ToPosix() == time;
        });

    [Fact]
    public void IdsParseAndPrint()
    {
        var id = Blake3.Hash("abc"u8);
        Assert.Equal("6437b3ac38465133ffb63b75273a8db548c558465d79db03fd359c6cd5bd9d85", id.ToString());
        Assert.True(ChunkId.TryParse(id.ToString(), out var parsed));
        Assert.Equal(id, parsed);
        Assert.False(ChunkId.TryParse("6437", out _));
        Assert.False(ChunkId.TryParse(new string('g', 64), out _));
        Assert.True(default(ChunkId).IsNone);
        Assert.True(Blake3.Hash("a"u8) < Blake3.Hash("b"u8) == Blake3.Hash("a"u8).CompareTo(Blake3.Hash("b"u8)) < 0);
    }
}

public class PathTests
{
    [Theory]
    [InlineData("Windows/System32", "Windows/System32")]
    [InlineData(@"\windows\system32\", "windows/system32")]
    [InlineData("/", "/")]
    [InlineData("./a//b", "a/b")]
    public void PathsAreReadWithEitherSeparator(string text, string shown) => Assert.Equal(shown, WindowsPath.Parse(text).ToString());

    [Theory]
    [InlineData("../x")]
    [InlineData("a/../../x")]
    [InlineData(@"C:\Windows")]
    [InlineData("a\0")]
    public void PathsThatLeadElsewhereAreRefused(string text) =>
        Assert.Equal("bad-path", Assert.Throws<VembarException>(() => WindowsPath.Parse(text)).Code);

    [Fact]
    public void PathsCompareWithoutCase()
    {
        Assert.Equal(WindowsPath.Parse("WINDOWS/inf"), WindowsPath.Parse(@"windows\INF"));
        Assert.Equal(WindowsPath.Parse("WINDOWS/inf").GetHashCode(), WindowsPath.Parse(@"windows\INF").GetHashCode());
        Assert.NotEqual(WindowsPath.Parse("a/b"), WindowsPath.Parse("ab"));
    }

    [Theory]
    [InlineData("*.txt", "a.TXT", true)]
    [InlineData("*.txt", "x/a.txt", false)]
    [InlineData("**/*.txt", "a.txt", true)]
    [InlineData("**/*.txt", "x/y/a.txt", true)]
    [InlineData("Windows/Temp/**", "Windows/Temp", false)]
    [InlineData("Windows/Temp/**", "windows/temp/a/b", true)]
    [InlineData("Users/*/AppData/**/x?.log", "Users/u/AppData/Local/q/x1.log", true)]
    [InlineData("Users/*/AppData/**/x?.log", "Users/u/v/AppData/x1.log", false)]
    [InlineData("a*b*c", "aXXbYYc", true)]
    [InlineData("a*b*c", "aXXbYY", false)]
    [InlineData("**", "x", true)]
    public void PatternsMatch(string pattern, string path, bool matches) =>
        Assert.Equal(matches, Glob.Parse(pattern).Matches(WindowsPath.Parse(path).Parts));

    [Fact]
    public void APatternOfManyStarsEndsInTime()
    {
        var pattern = Glob.Parse(string.Concat(Enumerable.Repeat("*a", 60)) + "b");
        Assert.False(pattern.Matches([new string('a', 4000)]));
    }

    [Fact]
    public void WhatMatchesIsLookedForInEveryFolderThatLeadsToIt()
    {
        var name = Gen.Int[0, 2].Select(i => new[] { "a", "b", "ab" }[i]);
        var part = Gen.Int[0, 6].Select(i => new[] { "a", "b", "ab", "*", "?", "a*", "**" }[i]);
        Gen.Select(part.Array[1, 5], name.Array[1, 6]).Sample((pattern, path) =>
        {
            var glob = Glob.Parse(string.Join('/', pattern));
            var mayBe = Enumerable.Range(0, path.Length).All(n => glob.MayMatchBelow(path[..n]));
            Assert.True(mayBe || !glob.Matches(path));
        }, iter: 20_000);
        // A pattern of fixed depth is not looked for below it.
        Assert.False(Glob.Parse("Windows/*.log").MayMatchBelow(["Windows", "System32"]));
        Assert.True(Glob.Parse("Windows/**/x.log").MayMatchBelow(["Windows", "System32", "a"]));
    }

    [Fact]
    public void TheFixedPartOfAPatternIsWhereTheSearchBegins() =>
        Assert.Equal("Windows/System32", Glob.Parse("Windows/System32/*/x").FixedPart().ToString());

    [Theory]
    [InlineData("ok.txt", true)]
    [InlineData("con", false)]
    [InlineData("NUL.txt", false)]
    [InlineData("com7.x", false)]
    [InlineData("com0", true)]
    [InlineData("a:b", false)]
    [InlineData("end.", false)]
    [InlineData("end ", false)]
    [InlineData("", false)]
    public void NamesThatWindowsCannotOpenAreKnown(string name, bool usable) => Assert.Equal(usable, WindowsPath.IsUsableName(name));
}
