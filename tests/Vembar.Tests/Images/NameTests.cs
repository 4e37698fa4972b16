using CsCheck;
using Vembar.Images.Paths;
using Vembar.Images.Records;
using Vembar.Native;
using Vembar.Operations;
using Vembar.Store.Reading;
using Xunit;

namespace Vembar.Tests;

/// <summary>Names of every kind go in and come out.</summary>
public sealed class NameTests
{
    // Bytes that a name on Linux may have: all but NUL and '/'.
    private static readonly Gen<byte[]> s_raw = Gen.Frequency(
        (3, Gen.Byte[1, 255].Array[1, 60]),
        (2, Gen.Const<byte[]>([.. ". .. ... a. a  con nul.txt A:b *? é"u8]).Select(b => b)),
        (2, Gen.Char['\u0020', '\u07FF'].Array[1, 40].Select(c => System.Text.Encoding.UTF8.GetBytes(c))),
        (1, Gen.Byte[1, 255].Array[255])).Select(b => b.Where(x => x != (byte)'/').DefaultIfEmpty((byte)'x').ToArray())
        .Where(b => !b.AsSpan().SequenceEqual("."u8) && !b.AsSpan().SequenceEqual(".."u8));

    [Fact]
    public void LengthAndBytesOfANameAreThoseOfItsEncoding() =>
        Gen.OneOf(s_raw.Select(b => PosixName.Decode(b)), Gen.Char.Array[0, 30].Select(c => new string(c))).Sample(name =>
    {
        var possible = PosixName.TryEncode(name, out var bytes);
        if (!possible)
            return PosixName.Length(name) == 0
                && Assert.Throws<NativeException>(() => PosixName.Put(name, new byte[200])).Errno == Errno.Invalid;
        var room = new byte[bytes.Length];
        return PosixName.Length(name) == bytes.Length && PosixName.Put(name, room) == bytes.Length - 1
            && room.AsSpan().SequenceEqual(bytes);
    });

    [Fact]
    public void EveryNameThatLinuxHasComesBack() => s_raw.Array[1, 12].Sample(names =>
    {
        using var folder = new TempFolder();
        Directory.CreateDirectory(folder.At("src"));
        using (var source = Posix.OpenFolder(null, PosixName.Encode(folder.At("src"))))
        {
            foreach (var name in names.DistinctBy(Convert.ToHexString))
            {
                // Half of them are folders with a file of the same name in them.
                if (name[0] % 2 == 0)
                {
                    Posix.MakeFolder(source, [.. name, 0], 0x1ED);
                    using var inner = Posix.OpenFolder(source, [.. name, 0]);
                    Posix.CreateNew(inner, [.. name, 0], 0x1A4).Dispose();
                }
                else
                {
                    using var file = Posix.CreateNew(source, [.. name, 0], 0x1A4);
                    Posix.Write(file, name, 0);
                }
            }
        }
        Do.Capture(folder.At("src"), folder.At("a.vmb"));
        // A second time, with what the first one knows.
        var again = Do.Capture(folder.At("src"), folder.At("a.vmb"), "again");
        Assert.Equal(0, again.Stats.BytesNew);
        Assert.Empty(Do.Deploy(folder.At("a.vmb") + "#1", folder.At("out")).Differences);
        // Compared by the names' bytes, by programs that take them as they are.
        string Names(string at) =>
            Tools.Run("sh",
            ["-c", "find . -print0 | LC_ALL=C sort -z | od -An -tx1 | tr -d ' \\n'; find . -type f -print0 | LC_ALL=C sort -z | xargs -0 "
            + "-r cat | cksum"], folder.At(at));
        Assert.Equal(Names("src"), Names("out"));
        return true;
    }, iter: 25);

    [Fact]
    public void NamesThatDifferInCaseOnlyAreDifferentFiles()
    {
        using var folder = new TempFolder();
        string[] names = ["readme", "README", "Readme", "ReadMe", "é", "É", "ß", "ẞ", "ss", "ı", "i", "I", "İ"];
        foreach (var name in names)
            folder.Write($"src/{name}", name);
        Do.Capture(folder.At("src"), folder.At("a.vmb"));
        Do.WithTree(folder.At("a.vmb"), 1, tree =>
        {
            Assert.All(names, n => Assert.Equal(n, System.Text.Encoding.UTF8.GetString(tree.ReadFile(WindowsPath.Parse(n), 10)!)));
            return 0;
        });
        Do.Deploy(folder.At("a.vmb"), folder.At("out"));
        Assert.All(names, n => Assert.Equal(n, File.ReadAllText(folder.At($"out/{n}"))));
    }

    [Fact]
    public void PathsLongerThanAnyCallTakesComeBack()
    {
        using var folder = new TempFolder();
        var long200 = new string('n', 200);
        // Some 6,000 bytes deep, made from the inside: no call takes the whole path.
        Directory.CreateDirectory(folder.At("src"));
        var script = $"set -e; cd src; for i in $(seq 30); do mkdir {long200}; cd {long200}; done; printf deep > file; ln -s nowhere "
            + $"link; ln file second";
        Tools.Run("bash", ["-c", script], folder.Path);
        Do.Capture(folder.At("src"), folder.At("a.vmb"));
        Assert.Equal((3, 31), Counted(folder));
        var result = Do.Deploy(folder.At("a.vmb"), folder.At("out"));
        Assert.Empty(result.Differences);
        var check = $"set -e; cd out; for i in $(seq 30); do cd {long200}; done; cat file; readlink link; stat -c %h second";
        Assert.Equal("deepnowhere\n2\n", Tools.Run("bash", ["-c", check], folder.Path));
        // And are taken, compared and taken over.
        var again = Do.Capture(folder.At("src"), folder.At("a.vmb"), "again");
        Assert.Equal(0, again.Stats.BytesNew);
        var diff = Do.Diff(new ImageReference(folder.At("a.vmb"), "1"), new ImageReference(folder.At("a.vmb"), "2"),
            CancellationToken.None);
        Assert.Empty(diff.Added.Concat(diff.Removed));
    }

    private static (long, long) Counted(TempFolder folder)
    {
        using var reader = ArchiveReader.Open(folder.At("a.vmb"));
        return (reader.Images[0].Files, reader.Images[0].Folders);
    }
}
