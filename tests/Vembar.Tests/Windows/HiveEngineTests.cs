using System.Buffers.Binary;
using System.Globalization;
using CsCheck;
using Vembar.Common;
using Vembar.Operations;
using Vembar.Windows.Install;
using Vembar.Windows.Registry;
using Vembar.Windows.Registry.Hives;
using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Files;
using Vembar.Windows.Servicing.Registry;
using Xunit;

namespace Vembar.Tests;

/// <summary>The hive engine beside a model, beside other readers, and on hives that are damaged.</summary>
public class HiveEngineTests(DemoFixture demo)
{
    private static readonly DateTime s_time = new(2026, 9, 1, 8, 0, 0, DateTimeKind.Utc);

    private static RegistryHive Edit(byte[] bytes) => RegistryHive.Open(bytes, write: true, "test", s_time);

    private static RegistryHive Read(byte[] bytes) => RegistryHive.Open(bytes, write: false, "test");

    // Keys and values, a line each, in the order of their names.
    private static string Dump(RegistryKey key, string path = "") =>
        string.Concat(key.Values.OrderBy(v => v.Name, StringComparer.Ordinal)
        .Select(v => $"{path}|{v.Name}|{(int)v.Type}|{Hash(v.Bytes)}\n"))
        + string.Concat(key.Subkeys.OrderBy(k => k.Name, StringComparer.Ordinal)
        .Select(k => $"{path}\\{k.Name}\n{Dump(k, $"{path}\\{k.Name}")}"));

    private static string Hash(byte[] data) => $"{data.Length}:{Convert.ToHexString(System.Security.Cryptography.SHA256.HashData(data))}";

    // The same of another reader.
    private static string DumpOfOther(string path) => Tools.Run("/usr/bin/python3", ["-c", """
        import hivex, hashlib, sys
        h = hivex.Hivex(sys.argv[1])
        def dump(node, path):
            for v in sorted(h.node_values(node), key=lambda v: h.value_key(v).encode('utf-16-be')):
                kind, data = h.value_value(v)
                sys.stdout.write('%s|%s|%d|%d:%s\n' % (path, h.value_key(v), kind, len(data), hashlib.sha256(data).hexdigest().upper()))
            for c in sorted(h.node_children(node), key=lambda c: h.node_name(c).encode('utf-16-be')):
                sys.stdout.write('%s\\%s\n' % (path, h.node_name(c)))
                dump(c, path + '\\' + h.node_name(c))
        dump(h.root(), '')
        """, path]);

    // What every other reader has to agree on.
    private static void OthersAgree(TempFolder folder, byte[] bytes)
    {
        var path = folder.Write("hive", bytes.ToArray());
        Assert.Equal(Dump(Read(bytes.ToArray()).Root), DumpOfOther(path));
        Tools.Run("reglookup", [path]);
        Assert.Equal("", Tools.Try("sh", ["-c", "regfexport -K '\\' \"$1\" > /dev/null", "sh", path]).Error);
        // It is in order for the next change, too.
        _ = Edit(bytes.ToArray());
    }

    [Fact]
    public void NamesAreComparedByTheTableOfWindows()
    {
        using var folder = new TempFolder();
        Tools.Run("sh", ["-c", "truncate -s 8M v && mkntfs -F -Q -q v 2> errors && icat v 10 > upcase"], folder.Path);
        var table = File.ReadAllBytes(folder.At("upcase"));
        Assert.Equal(1 << 17, table.Length);
        var wrong = new List<string>();
        for (var i = 0; i <= char.MaxValue; i++)
        {
            if (BinaryPrimitives.ReadUInt16LittleEndian(table.AsSpan(2 * i)) is var upper && upper != RegistryNames.Upper((char)i))
                wrong.Add(string.Create(CultureInfo.InvariantCulture, $"{i:X4} {upper:X4}"));
        }
        Assert.Empty(wrong);
    }

    private sealed record Model(SortedDictionary<string, Model> Keys,
        SortedDictionary<string, (string Name, RegistryType Type, byte[] Data)> Values, string Name)
    {
        public static Model New(string name) => new(new(StringComparer.Ordinal), new(StringComparer.Ordinal), name);

        public string Dump(string path = "") =>
            string.Concat(Values.Values.OrderBy(v => v.Name, StringComparer.Ordinal)
            .Select(v => $"{path}|{v.Name}|{(int)v.Type}|{Hash(v.Data)}\n"))
            + string.Concat(Keys.Values.OrderBy(k => k.Name, StringComparer.Ordinal)
            .Select(k => $"{path}\\{k.Name}\n{k.Dump($"{path}\\{k.Name}")}"));
    }

    private static string Upper(string name) => string.Concat(name.Select(RegistryNames.Upper));

    [Theory]
    [InlineData(3)]
    [InlineData(5)]
    [InlineData(6)]
    public void RandomEditsGiveWhatAModelGives(int minor)
    {
        using var folder = new TempFolder();
        string[] names =
            ["a", "B", "b_", "Z", "Köln", "ŁÓDŹ", "\u03A9mega", "[x]",
                "longer name with spaces", "aa", "ab", "Ab1", new string('n', 255)];
        var name = Gen.OneOf(Gen.Int[0, names.Length - 1].Select(i => names[i]),
            Gen.Int[0, 3000].Select(i => string.Create(CultureInfo.InvariantCulture, $"k{i}")));
        var length = Gen.OneOf(Gen.Int[0, 8], Gen.Int[0, 300], Gen.Int[16_300, 16_400], Gen.Int[0, 70_000]);
        var step = Gen.Select(Gen.Int[0, 9], name, name, length, Gen.Byte);
        var seen = 0;
        step.Array[1, 400].Sample(steps =>
        {
            var empty = RegistryHive.NewEmpty();
            BinaryPrimitives.WriteInt32LittleEndian(empty.AsSpan(24), minor);
            Seal(empty);
            var hive = Edit(empty);
            var model = Model.New("");
            foreach (var (what, first, second, size, fill) in steps)
            {
                var key = hive.Root;
                var at = model;
                foreach (var part in what % 2 == 0 ? [first] : new[] { first, second })
                {
                    if (what is 8 or 9 && !at.Keys.ContainsKey(Upper(part)))
                        break;
                    if (!at.Keys.TryGetValue(Upper(part), out var next))
                        at.Keys[Upper(part)] = next = Model.New(part);
                    at = next;
                    key = key.Ensure(part);
                }
                if (what is 8 or 9)
                {
                    if (at == model)
                        continue;
                    // The key goes with all below it.
                    var parent = what == 8 || !model.Keys[Upper(first)].Keys.ContainsValue(at) ? model : model.Keys[Upper(first)];
                    parent.Keys.Remove(Upper(at.Name));
                    key.Delete();
                }
                else if (what is 6 or 7)
                {
                    at.Values.Remove(Upper(second));
                    key.DeleteValue(second);
                }
                else if (what > 1)
                {
                    var data = new byte[size];
                    new Random(fill).NextBytes(data);
                    at.Values[Upper(second)] =
                        (at.Values.TryGetValue(Upper(second), out var there) ? there.Name : second, (RegistryType)(fill % 12), data);
                    key.Set(second, (RegistryType)(fill % 12), data);
                }
            }
            Assert.Equal(model.Dump(), Dump(hive.Root));
            var bytes = hive.ToBytes();
            Assert.Equal(model.Dump(), Dump(Edit(bytes.ToArray()).Root));
            // Each other reader knows only some of the versions, and takes its time.
            if (minor >= 5 && seen++ % 10 == 0)
                OthersAgree(folder, bytes);
        }, iter: 60, threads: 1);
    }

    // The base block's sum, as the format wants it.
    private static void Seal(byte[] hive)
    {
        var sum = 0u;
        for (var i = 0; i < 508; i += 4)
            sum ^= BinaryPrimitives.ReadUInt32LittleEndian(hive.AsSpan(i));
        BinaryPrimitives.WriteUInt32LittleEndian(hive.AsSpan(508), sum);
    }

    [Fact]
    public void ManyKeysUnderOneParentStayInOrderForOtherReaders()
    {
        using var folder = new TempFolder();
        var hive = Edit(RegistryHive.NewEmpty());
        var random = new Random(5);
        var names = Enumerable.Range(0, 5000)
            .Select(i => string.Create(CultureInfo.InvariantCulture, $"{(i % 3 == 0 ? "PCI" : "usb")}#{random.Next():x8}_{i}")).ToList();
        foreach (var name in names)
            hive.Root.Ensure(name).SetDword("v", 1);
        foreach (var name in names.Where((_, i) => i % 4 == 0))
            hive.Root.Key(name.ToUpperInvariant())!.Delete();
        for (var i = 0; i < 3000; i++)
            hive.Root.Ensure("Sorted").Ensure(string.Create(CultureInfo.InvariantCulture, $"{i:00000}"));
        var bytes = hive.ToBytes();
        OthersAgree(folder, bytes);
        Assert.Equal(names.Count * 3 / 4 + 1, Read(bytes).Root.Subkeys.Count);
        // Hashes and order are those that Windows looks keys up by: no key is found by going through all.
        var keys = Read(bytes).Root.Subkeys.Select(k => Upper(k.Name)).ToList();
        Assert.Equal(keys.Order(StringComparer.Ordinal), keys);
    }

    [Fact]
    public void LongValuesAreSegmentsThatEveryReaderReads()
    {
        using var folder = new TempFolder();
        var hive = Edit(RegistryHive.NewEmpty());
        var key = hive.Root.Ensure("Long");
        int[] lengths = [0, 4, 5, 16_343, 16_344, 16_345, 32_688, 32_689, 100_000, 1_000_000];
        foreach (var length in lengths)
        {
            var data = new byte[length];
            new Random(length).NextBytes(data);
            key.Set(string.Create(CultureInfo.InvariantCulture, $"{length:0000000}"), RegistryType.Binary, data);
        }
        var bytes = hive.ToBytes();
        Assert.Equal(lengths, Read(bytes.ToArray()).Key("Long")!.Values.Select(v => v.Bytes.Length));
        OthersAgree(folder, bytes);
        // Beyond what the other readers take.
        var large = new byte[40 << 20];
        new Random(1).NextBytes(large);
        key.Set("huge", RegistryType.Binary, large);
        bytes = hive.ToBytes();
        Assert.Equal(large, Read(bytes).Key("Long")!.Get("huge")!.Value.Bytes);
        // Given up, its room is used again.
        hive = Edit(bytes);
        hive.Key("Long")!.Set("huge", RegistryType.Binary, [1]);
        hive.Key("Long")!.Set("other", RegistryType.Binary, large);
        Assert.Equal(bytes.Length, hive.ToBytes().Length);
    }

    [Fact]
    public void WhatIsUndoneLeavesTheHiveAsLongAsItWas()
    {
        var bytes = File.ReadAllBytes(Path.Combine(demo.Reference("lending-desk"), "Windows/System32/config/SOFTWARE"));
        var before = Dump(Read(bytes.ToArray()).Root);
        var hive = Edit(bytes.ToArray());
        var grown = 0;
        for (var round = 0; round < 100; round++)
        {
            var key = hive.Root.Ensure(@"Tarn Valley\Rounds");
            for (var i = 0; i < 60; i++)
                key.SetString(string.Create(CultureInfo.InvariantCulture, $"v{i}"), new string('x', (round * 37 + i * 11) % 200));
            if (round == 0)
                grown = hive.ToBytes().Length;
        }
        Assert.InRange(hive.ToBytes().Length, grown, grown + 8192);
        hive.Key("Tarn Valley")!.Delete();
        var after = hive.ToBytes();
        Assert.Equal(before, Dump(Read(after.ToArray()).Root));
        Assert.InRange(after.Length, bytes.Length, grown + 8192);
        // Then there is room for the same again.
        hive = Edit(after.ToArray());
        for (var i = 0; i < 60; i++)
            hive.Root.Ensure(@"Tarn Valley\Rounds").SetString(string.Create(CultureInfo.InvariantCulture, $"v{i}"), "once more");
        Assert.Equal(after.Length, hive.ToBytes().Length);
    }

    [Fact]
    public void ASmallChangeChangesFewBytes()
    {
        var bytes = File.ReadAllBytes(Path.Combine(demo.Reference("lending-desk"), "Windows/System32/config/SYSTEM"));
        var hive = Edit(bytes.ToArray());
        hive.Key(@"ControlSet001\Services\Spooler")!.SetDword("Start", 4);
        var after = hive.ToBytes();
        Assert.Equal(bytes.Length, after.Length);
        // Numbers, time and sum of the base block, the key's time, and the value itself.
        Assert.InRange(bytes.Zip(after).Count(p => p.First != p.Second), 1, 40);
        // Nothing to do changes nothing.
        hive = Edit(bytes.ToArray());
        hive.Key(@"ControlSet001\Services\Spooler")!.SetDword("Start",
            hive.Key(@"ControlSet001\Services\Spooler")!.GetDword("Start")!.Value);
        Assert.Equal(bytes[4096..], hive.ToBytes()[4096..]);
    }

    [Fact]
    public void WhatAnotherProgramWroteIsPutRight()
    {
        // It keeps lists in an order of its own, and long values in one cell.
        using var folder = new TempFolder();
        var path = folder.Write("hive", RegistryHive.NewEmpty());
        Tools.Run("/usr/bin/python3", ["-c", """
            import hivex, sys
            h = hivex.Hivex(sys.argv[1], write=True)
            for n in ['a_b', 'aZb', 'Ab', '_', 'z', 'Ü', 'ü1', 'k']:
                h.node_add_child(h.root(), n)
            for i in range(1200):
                h.node_add_child(h.node_get_child(h.root(), 'k'), 'x%04d' % (i * 7 % 1200))
            k = h.node_get_child(h.root(), 'z')
            h.node_set_value(k, {'key': 'long', 't': 3, 'value': b'q' * 50000})
            h.commit(sys.argv[1])
            """, path]);
        var read = Read(File.ReadAllBytes(path));
        Assert.All(["a_b", "AZB", "ab", "_", "Z", "ü", "Ü1", "K"], n => Assert.NotNull(read.Key(n)));
        Assert.Equal(50_000, read.Key("z")!.Get("long")!.Value.Bytes.Length);
        var hive = Edit(File.ReadAllBytes(path));
        hive.Root.Ensure("aab");
        for (var i = 0; i < 1200; i++)
            hive.Key("k")!.Ensure(string.Create(CultureInfo.InvariantCulture, $"x{i:0000}y"));
        hive.Key("z")!.SetDword("other", 1);
        hive.Key("z")!.Set("long", RegistryType.Binary, new byte[50_001]);
        var bytes = hive.ToBytes();
        OthersAgree(folder, bytes);
        var keys = Read(bytes).Root.Subkeys.Select(k => Upper(k.Name)).ToList();
        Assert.Equal(keys.Order(StringComparer.Ordinal), keys);
        Assert.Equal(2400, Read(bytes).Key("k")!.Subkeys.Count);
    }

    [Fact]
    public void WrittenAnewItHoldsTheSameForOtherReadersToo()
    {
        using var folder = new TempFolder();
        foreach (var name in (string[])["SYSTEM", "SOFTWARE", "SAM"])
        {
            var bytes = File.ReadAllBytes(Path.Combine(demo.Reference("lending-desk"), "Windows/System32/config", name));
            var hive = Edit(bytes.ToArray());
            for (var i = 0; i < 1000; i++)
                hive.Root.Ensure(string.Create(CultureInfo.InvariantCulture, $@"Room\{i:x}"))
                    .Set("long", RegistryType.Binary, new byte[i % 7 == 0 ? 17_000 : i]);
            for (var i = 0; i < 1000; i += 3)
                hive.Root.Key(string.Create(CultureInfo.InvariantCulture, $@"Room\{i:x}"))!.Delete();
            var compact = hive.ToCompactBytes(CancellationToken.None);
            Assert.True(compact.Length < hive.Length);
            Assert.Equal(Dump(hive.Root), Dump(Read(compact.ToArray()).Root));
            OthersAgree(folder, compact);
            // Times and rights go along.
            Assert.Equal(Rights(folder, hive.ToBytes()), Rights(folder, compact));
        }
    }

    private static string Rights(TempFolder folder, byte[] hive) =>
        Tools.Run("sh", ["-c", "reglookup -s -t KEY \"$1\" | LC_ALL=C sort", "sh", folder.Write("rights", hive)]);

    [Fact]
    public void SecurityIsSharedAndGivenUpWithItsLastUser()
    {
        using var folder = new TempFolder();
        var hive = Edit(RegistryHive.NewEmpty());
        for (var i = 0; i < 50; i++)
            hive.Root.Ensure(string.Create(CultureInfo.InvariantCulture, $@"a\{i}"));
        hive.Key("a")!.Delete();
        hive.Root.Ensure("b");
        var bytes = hive.ToBytes();
        OthersAgree(folder, bytes);
        Assert.Contains("S-1-5-18", Tools.Run("reglookup", ["-s", "-p", "/b", folder.At("hive")]), StringComparison.Ordinal);
    }

    [Fact]
    public void LimitsAreTheFormats()
    {
        var hive = Edit(RegistryHive.NewEmpty());
        hive.Root.Ensure(new string('k', 255)).SetDword(new string('v', 16_383), 1);
        Assert.Contains("256 characters; 255 are possible",
            Assert.Throws<VembarException>(() => hive.Root.Ensure(new string('k', 256))).Message, StringComparison.Ordinal);
        Assert.Contains("16384 characters; 16383 are possible",
            Assert.Throws<VembarException>(() => hive.Root.SetDword(new string('v', 16_384), 1)).Message, StringComparison.Ordinal);
        Assert.Contains("512 keys deep",
            Assert.Throws<VembarException>(() => hive.Root.Ensure(string.Concat(Enumerable.Repeat("d\\", 513)))).Message,
            StringComparison.Ordinal);
        Assert.Throws<VembarException>(hive.Root.Delete);
        Assert.NotNull(Edit(hive.ToBytes()).Key(new string('K', 255)));
    }

    [Fact]
    public void AHiveThatWasNotWrittenToItsEndIsReadAndNotChanged()
    {
        var bytes = RegistryHive.NewEmpty();
        bytes[4]++;
        Seal(bytes);
        Assert.Empty(Read(bytes.ToArray()).Root.Subkeys);
        Assert.Contains("was not written to its end", Assert.Throws<VembarException>(() => Edit(bytes)).Message, StringComparison.Ordinal);
    }

    [Fact]
    public void LookingOverALargeHiveCanBeEnded()
    {
        using var stop = new CancellationTokenSource();
        stop.Cancel();
        Assert.Throws<OperationCanceledException>(() => RegistryHive.Open(RegistryHive.NewEmpty(), write: true, "test", null, stop.Token));
    }

    [Fact]
    public void DamageIsNeverTakenForSoundAndNeverWritten()
    {
        var good = Small();
        var random = new Random(22);
        var (refused, harmless) = (0, 0);
        for (var round = 0; round < 4000; round++)
        {
            var bytes = good.ToArray();
            for (var i = random.Next(1, 5); i > 0; i--)
                Damage(bytes, random);
            Seal(bytes);
            try
            {
                Visit(Read(bytes.ToArray()).Root, 0);
            }
            catch (VembarException problem)
            {
                Assert.Equal("bad-hive", problem.Code);
            }
            try
            {
                var hive = Edit(bytes.ToArray());
                hive.Root.Ensure(@"New\Key").SetString("v", "text");
                foreach (var key in hive.Root.Subkeys.Take(3))
                    key.Delete();
                hive.Root.Ensure("Last").Set("long", RegistryType.Binary, new byte[40_000]);
                // What could be changed is sound afterwards.
                Visit(Edit(hive.ToBytes()).Root, 0);
                harmless++;
            }
            catch (VembarException problem)
            {
                Assert.Equal("bad-hive", problem.Code);
                refused++;
            }
        }
        Assert.True(refused > 500 && harmless > 500, $"{refused} refused, {harmless} harmless");
    }

    private static byte[] Small()
    {
        var hive = Edit(RegistryHive.NewEmpty());
        for (var i = 0; i < 30; i++)
        {
            var key = hive.Root.Ensure(string.Create(CultureInfo.InvariantCulture, $@"group{i % 4}\key{i}"));
            key.SetDword("number", (uint)i);
            key.SetString("text", new string('t', i * 5));
            key.Set("raw", RegistryType.Binary, new byte[i * 100]);
        }
        hive.Root.Ensure("long").Set("data", RegistryType.Binary, new byte[50_000]);
        for (var i = 0; i < 520; i++)
            hive.Root.Ensure("many").Ensure(string.Create(CultureInfo.InvariantCulture, $"{i}"));
        return hive.ToBytes();
    }

    // A random byte, or a place, a size or a count that is a little or much too large.
    private static void Damage(byte[] bytes, Random random)
    {
        var at = 4096 + random.Next(bytes.Length - 4096 - 4);
        var word = bytes.AsSpan(at & ~3, 4);
        switch (random.Next(5))
        {
            case 0:
                bytes[random.Next(bytes.Length)] = (byte)random.Next(256);
                break;
            case 1:
                BinaryPrimitives.WriteInt32LittleEndian(word, random.Next(bytes.Length) & ~7);
                break;
            case 2:
                BinaryPrimitives.WriteInt32LittleEndian(word,
                    BinaryPrimitives.ReadInt32LittleEndian(word) + (random.Next(2) == 0 ? 8 : -8));
                break;
            case 3:
                word.Fill(0xFF);
                break;
            default:
                bytes.AsSpan(at, Math.Min(random.Next(64), bytes.Length - at)).Clear();
                break;
        }
    }

    private static void Visit(RegistryKey key, int depth)
    {
        _ = key.Values;
        foreach (var child in depth > 10 ? [] : key.Subkeys)
            Visit(child, depth + 1);
    }

    [Fact]
    public void WhatIsSoundOfADamagedHiveIsShown()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var whole = Do.Show(ImageReference.Parse(archive));
        Assert.Empty(whole.Problems);
        var hive = Do.WithTree(archive, 1, t => t.ReadFile(WindowsInstall.HivePath("Windows", "SOFTWARE"), RegistryHive.Longest)!);
        // The record of one program says that its values are where nothing can be.
        var name = "Quillpad"u8.ToArray();
        var at = hive.AsSpan().IndexOf(name);
        Assert.True(at > 0);
        const int NameAt = 0x4C, ValuesAt = 0x28;
        System.Buffers.Binary.BinaryPrimitives.WriteUInt32LittleEndian(hive.AsSpan(at - NameAt + ValuesAt), 0x7FFFFFF0);
        Do.Service(archive, null, new PutChange(folder.Write("SOFTWARE", hive), "Windows/System32/config/SOFTWARE"));
        var shown = Do.Show(ImageReference.Parse(archive));
        Assert.Contains("is a damaged registry hive", Assert.Single(shown.Problems), StringComparison.Ordinal);
        Assert.Equal(whole.Programs!.Where(p => !p.Name.Contains("Quillpad", StringComparison.Ordinal)).Select(p => p.Name),
            shown.Programs!.Select(p => p.Name));
        Assert.Equal(whole.Apps!.Count, shown.Apps!.Count);
        // It is not written.
        Assert.Equal(ChangeStatus.Refused,
            Do.Service(archive, "x",
            new RegistryChange(folder.Write("x.reg",
            "Windows Registry Editor Version 5.00\r\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\X]\r\n"))).Changes.Single().Status);
    }

    // Whatever is damaged: what is read as far as it is sound ends, and never fails.
    [Fact]
    public void DamagedHivesAreReadToAnEnd()
    {
        var sound = Do.WithTree(demo.Archive, 1, t => t.ReadFile(WindowsInstall.HivePath("Windows", "SYSTEM"), RegistryHive.Longest)!);
        var random = new Random(31);
        var keys = 0;
        for (var round = 0; round < 500; round++)
        {
            var bytes = (byte[])sound.Clone();
            for (var flips = random.Next(1, 30); flips > 0; flips--)
                bytes[4096 + random.Next(bytes.Length - 4096)] ^= (byte)(1 << random.Next(8));
            try
            {
                var hive = RegistryHive.OpenAsFarAsSound(bytes, "SYSTEM", _ => { });
                keys += Count(hive.Root, 0);
            }
            catch (VembarException problem)
            {
                Assert.Equal("bad-hive", problem.Code);
            }
        }
        Assert.True(keys > 500);
    }

    // Two hives that share pieces are compared without being put together, wherever their content was cut.
    [Fact]
    public void HivesInPiecesAreComparedAsWholeOnes()
    {
        var sound = File.ReadAllBytes(Path.Combine(VendorCorpusTests.Folder(), "..", "hives", "base.hive"));
        var hive = RegistryHive.Open((byte[])sound.Clone(), write: true, "other");
        hive.Root.Key("Many")!.Key("007")!.Delete();
        hive.Root.Ensure(@"Many\700").SetString("Name", "New");
        hive.Root.Key("Long")!.Set("Data", RegistryType.Binary, new byte[40_000]);
        hive.Root.Key(@"Shelves\Shelf 03")!.DeleteValue("Room");
        var changed = hive.ToBytes();
        var random = new Random(9);
        for (var round = 0; round < 40; round++)
        {
            var before = RegistryHive.OpenShared(Pieces(sound, random), "before");
            var after = RegistryHive.OpenShared(Pieces(changed, random), "after");
            var found = new List<RegistryDifference>();
            before.Compare(after, found.Add, default);
            Assert.Equal(
            [
                new(@"Long", "Data", "changed"), new(@"Many\007", null, "removed"), new(@"Many\700", null, "added"),
                new(@"Many\700", "Name", "added"),
                new(@"Shelves\Shelf 03", "Room", "removed"),
            ], found.OrderBy(f => f.Key, StringComparer.Ordinal).ThenBy(f => f.Value, StringComparer.Ordinal));
            found.Clear();
            before.Compare(RegistryHive.Open(sound, write: false, "whole"), found.Add, default);
            Assert.Empty(found);
        }
    }

    [Fact]
    public void TheDamagedOneOfTwoHivesIsNamed()
    {
        var sound = File.ReadAllBytes(Path.Combine(VendorCorpusTests.Folder(), "..", "hives", "base.hive"));
        var name = sound.AsSpan().IndexOf("Shelf 05"u8);
        var damaged = (byte[])sound.Clone();
        damaged.AsSpan(name - 0x4C + 0x28, 4).Fill(0x7F);
        RegistryHive One() => RegistryHive.Open((byte[])sound.Clone(), write: false, "the sound one");
        RegistryHive Other() => RegistryHive.Open((byte[])damaged.Clone(), write: false, "the damaged one");
        Assert.StartsWith("the damaged one", Assert.Throws<VembarException>(() => One().Compare(Other(), _ => { }, default)).Message,
            StringComparison.Ordinal);
        Assert.StartsWith("the damaged one", Assert.Throws<VembarException>(() => Other().Compare(One(), _ => { }, default)).Message,
            StringComparison.Ordinal);
    }

    private static List<byte[]> Pieces(byte[] bytes, Random random)
    {
        var pieces = new List<byte[]>();
        for (var at = 0; at < bytes.Length;)
        {
            var count = Math.Min(bytes.Length - at, random.Next(4) == 0 ? random.Next(1, 64) : random.Next(1, 20_000));
            pieces.Add(bytes[at..(at + count)]);
            at += count;
        }
        return pieces;
    }

    // A hive and 512 damages of it are kept: heads, lists, lengths and places that lead elsewhere, files that were cut off.
    [Fact]
    public void KeptDamagesAreMetAsBefore()
    {
        var folder = Path.Combine(VendorCorpusTests.Folder(), "..", "hives");
        var sound = File.ReadAllBytes(Path.Combine(folder, "base.hive"));
        var wrong = new List<string>();
        var tried = 0;
        foreach (var line in File.ReadLines(Path.Combine(folder, "damages.txt")).Where(l => !l.StartsWith('#')))
        {
            tried++;
            var (damage, expected) = (line[..line.IndexOf('=')].Trim(), line[(line.IndexOf('=') + 1)..].Trim());
            var bytes = Damaged(sound, damage);
            var met = $"{ReadAsFarAsSound(bytes)} {(IsChanged(bytes) ? "sound" : "refused")}";
            if (met != expected)
                wrong.Add($"{damage}: {met}, not {expected}");
        }
        Assert.Empty(wrong);
        Assert.True(tried > 500);
    }

    // What the look over a hive takes for sound is sound for one that reads all of it.
    [Fact]
    public void DamagesOfLargeHivesAreFoundToo()
    {
        var hive = RegistryHive.Open(RegistryHive.NewEmpty(), write: true, "large");
        for (var i = 0; hive.Length < 5 << 20; i++)
            hive.Root.Ensure($@"Keys\{i % 50}\{i}").Set("Data", RegistryType.Binary, new byte[200]);
        var sound = hive.ToBytes();
        Assert.True(IsChanged(sound));
        var random = new Random(41);
        var refused = 0;
        for (var round = 0; round < 60; round++)
        {
            var bytes = (byte[])sound.Clone();
            // Places within cells: sizes, marks, lists, numbers.
            for (var flips = random.Next(1, 40); flips > 0; flips--)
                bytes[4096 + random.Next(bytes.Length - 4096)] ^= (byte)(1 << random.Next(8));
            var damages = 0;
            try
            {
                _ = RegistryHive.Open((byte[])bytes.Clone(), write: true, "large");
            }
            catch (VembarException problem)
            {
                Assert.Equal("bad-hive", problem.Code);
                refused++;
                continue;
            }
            Count(RegistryHive.OpenAsFarAsSound(bytes, "large", _ => damages++).Root, 0);
            Assert.Equal(0, damages);
        }
        Assert.InRange(refused, 5, 60);
    }

    private static byte[] Damaged(byte[] sound, string damage)
    {
        if (damage.StartsWith("cut ", StringComparison.Ordinal))
            return sound[..int.Parse(damage[4..], System.Globalization.CultureInfo.InvariantCulture)];
        var bytes = (byte[])sound.Clone();
        foreach (var patch in damage.Split(' '))
        {
            var (at, put) = (Convert.ToInt32(patch[..patch.IndexOf(':')], 16), Convert.FromHexString(patch[(patch.IndexOf(':') + 1)..]));
            put.CopyTo(bytes, at);
        }
        return bytes;
    }

    private static int ReadAsFarAsSound(byte[] bytes)
    {
        static int Read(RegistryKey key) => 1 + key.Values.Count + key.Subkeys.Sum(Read);
        try
        {
            return Read(RegistryHive.OpenAsFarAsSound((byte[])bytes.Clone(), "base.hive", _ => { }).Root);
        }
        catch (VembarException problem)
        {
            Assert.Equal("bad-hive", problem.Code);
            return -1;
        }
    }

    // What is taken for sound is changed and has what it had, and nothing else besides.
    private static bool IsChanged(byte[] bytes)
    {
        try
        {
            var before = ReadAsFarAsSound(bytes);
            var hive = RegistryHive.Open((byte[])bytes.Clone(), write: true, "base.hive");
            hive.Root.Ensure(@"Added\Below").SetString("Name", "Value");
            var changed = hive.ToBytes();
            Assert.Equal(before + 3, ReadAsFarAsSound(changed));
            _ = RegistryHive.Open(changed, write: true, "base.hive");
            return true;
        }
        catch (VembarException problem)
        {
            Assert.Equal("bad-hive", problem.Code);
            return false;
        }
    }

    private static int Count(RegistryKey key, int depth)
    {
        Assert.True(depth < 2_000);
        _ = (key.Name, key.Values.Count);
        return 1 + key.Subkeys.Sum(k => Count(k, depth + 1));
    }
}
