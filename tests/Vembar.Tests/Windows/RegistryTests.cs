using System.Text;
using CsCheck;
using Vembar.Common;
using Vembar.Images.Paths;
using Vembar.Operations;
using Vembar.Windows.Install;
using Vembar.Windows.Registry;
using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Files;
using Vembar.Windows.Servicing.FirstStart;
using Vembar.Windows.Servicing.Registry;
using Vembar.Windows.Servicing.Tidying;
using Xunit;

namespace Vembar.Tests;

public class RegistryTests(DemoFixture demo)
{
    private const string Head = "Windows Registry Editor Version 5.00\r\n\r\n";

    private static IReadOnlyList<RegLine> Parse(string text) => RegFile.Parse(Encoding.UTF8.GetBytes(text), "x.reg");

    [Fact]
    public void EveryFormOfALineIsRead()
    {
        var lines = Parse(Head +
            """
            ; a remark
            [HKEY_LOCAL_MACHINE\SOFTWARE\Tarn Valley]
            @="the default"
            "path"="C:\\Users\\\"x\""
            "number"=dword:0000001f
            "bytes"=hex:01,ff,\
              0a
            "expand"=hex(2):25,00,41,00,25,00,00,00
            "list"=hex(7):61,00,00,00,00,00
            "long"=hex(b):01,00,00,00,00,00,00,00
            "none"=hex(0):
            "gone"=-
            [-HKEY_LOCAL_MACHINE\SYSTEM\CurrentControlSet\Services\old]
            [HKEY_CURRENT_USER\Control Panel\Desktop]
            "Wallpaper"="C:\\Windows\\Web\\tarn.jpg"
            [HKEY_CLASSES_ROOT\.shelf]
            [HKEY_USERS\.DEFAULT\Keyboard]
            """);
        Assert.Equal(
            [
                @"SOFTWARE Tarn Valley  MakeKey None ", @"SOFTWARE Tarn Valley  Set String 740068006500",
                @"SOFTWARE Tarn Valley path Set String 43003A005C00", "SOFTWARE Tarn Valley number Set Dword 1F000000",
                "SOFTWARE Tarn Valley bytes Set Binary 01FF0A",
                "SOFTWARE Tarn Valley expand Set ExpandString 250041002500", "SOFTWARE Tarn Valley list Set MultiString 610000000000",
                "SOFTWARE Tarn Valley long Set Qword 010000000000", "SOFTWARE Tarn Valley none Set None ",
                "SOFTWARE Tarn Valley gone DeleteValue None ",
                @"SYSTEM ControlSet001\Services\old  DeleteKey None ", @"NTUSER.DAT Control Panel\Desktop  MakeKey None ",
                @"NTUSER.DAT Control Panel\Desktop Wallpaper Set String 43003A005C00", @"SOFTWARE Classes\.shelf  MakeKey None ",
                "DEFAULT Keyboard  MakeKey None ",
            ],
            lines.Select(l => $"{l.Edit.Root} {l.Edit.Subkey} {l.Edit.Name} {l.Edit.Kind} {l.Edit.Type} "
            + $"{Convert.ToHexString(l.Edit.Bytes.AsSpan(0, Math.Min(6, l.Edit.Bytes.Length)))}"));
        Assert.Equal(5, lines[1].Line);
        Assert.Equal("C:\\Users\\\"x\"\0", Encoding.Unicode.GetString(lines[2].Edit.Bytes));
    }

    [Theory]
    [InlineData("hello", "does not begin with")]
    [InlineData(Head + "\"a\"=\"b\"", "line 3: a value before the first key")]
    [InlineData(Head + "[HKEY_LOCAL_MACHINE\\SOFTWARE\\x\n", "line 3: a key without ']'")]
    [InlineData(Head + "[HKEY_LOCAL_MACHINE\\HARDWARE\\x]\n", "line 3: 'HKEY_LOCAL_MACHINE\\HARDWARE\\x' is in no hive")]
    [InlineData(Head + "[HKEY_LOCAL_MACHINE\\SOFTWARE\\x]\n\"a\"=dword:xyz", "line 4: 'dword:xyz' is not a number")]
    [InlineData(Head + "[HKEY_LOCAL_MACHINE\\SOFTWARE\\x]\n\"a\"=hex:1,2,zz", "line 4: 'zz' is not a byte")]
    [InlineData(Head + "[HKEY_LOCAL_MACHINE\\SOFTWARE\\x]\n\"a\"=\"b\" c", "line 4: there is more behind")]
    [InlineData(Head + "[HKEY_LOCAL_MACHINE\\SOFTWARE\\x]\n\"a\" \"b\"", "line 4: there is no '='")]
    [InlineData(Head + "[HKEY_LOCAL_MACHINE\\SOFTWARE\\x]\na=1", "line 4: a value begins with its name in quotes")]
    [InlineData(Head + "[-HKEY_LOCAL_MACHINE\\SOFTWARE]\n", "line 3: a whole hive cannot be removed")]
    [InlineData(Head + "[-HKEY_LOCAL_MACHINE\\SYSTEM\\CurrentControlSet]\n", "line 3: 'ControlSet001' is a control set")]
    [InlineData(Head + "[-HKEY_LOCAL_MACHINE\\SYSTEM\\controlset002]\n", "line 3: 'controlset002' is a control set")]
    public void MistakesAreToldWithTheirLine(string text, string expected) =>
        Assert.Contains(expected, Assert.Throws<VembarException>(() => Parse(text)).Message, StringComparison.Ordinal);

    [Fact]
    public void HostileTextsEndInAnErrorAtWorst()
    {
        string[] parts = ["[HKEY_LOCAL_MACHINE\\SOFTWARE\\a]\n", "[-", "]", "\"a\"", "=", "hex(", "):", "01,", "\\\n", "dword:", "\"", "@",
            "-\n", "\n", ";", "\u00e4"];
        Gen.Int[0, parts.Length - 1].Array[0, 30].Select(picks => Head + string.Concat(picks.Select(i => parts[i]))).Sample(text =>
        {
            try
            {
                Parse(text);
            }
            catch (VembarException problem)
            {
                Assert.Equal("bad-reg", problem.Code);
            }
        }, iter: 5000);
    }

    [Fact]
    public void WhatIsExportedAgainIsWhatWasImported()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        folder.Write("house.reg",
            Head + "[HKEY_LOCAL_MACHINE\\SOFTWARE\\Tarn "
            + "Valley\\Kiosk]\n\"Home\"=\"https://tarnvalley.example\"\n\"Idle\"=dword:0000012c\n"
            + "[HKEY_LOCAL_MACHINE\\SYSTEM\\CurrentControlSet\\Services\\Spooler]\n\"Start\"=dword:4\n"
            + "[HKEY_CURRENT_USER\\Software\\Tarn Valley]\n\"Theme\"=\"slate\"\n");
        var change = new RegistryChange(folder.At("house.reg"));
        var done = Do.Service(archive, null, change);
        Assert.Equal(ChangeStatus.Done, done.Changes.Single().Status);
        Assert.Contains("SOFTWARE, SYSTEM, what new users get", done.Changes.Single().Why, StringComparison.Ordinal);
        Assert.Equal(ChangeStatus.Already, Do.Service(archive, null, change).Changes.Single().Status);
        string Export(string path)
        {
            Do.WithTree(archive, 1, t =>
            {
                File.WriteAllBytes(folder.At("hive"), t.ReadFile(WindowsPath.Parse(path), RegistryHive.Longest)!);
                return 0;
            });
            return Tools.Run("reglookup", [folder.At("hive")]);
        }
        Assert.Contains("/Tarn Valley/Kiosk/Idle,DWORD,0x0000012C", Export("Windows/System32/config/SOFTWARE"), StringComparison.Ordinal);
        Assert.Contains("/ControlSet001/Services/Spooler/Start,DWORD,0x00000004", Export("Windows/System32/config/SYSTEM"),
            StringComparison.Ordinal);
        Assert.Contains("/Software/Tarn Valley/Theme,SZ,slate", Export("Users/Default/NTUSER.DAT"), StringComparison.Ordinal);
    }

    [Fact]
    public void NamesThatAreTooLongAreToldWithTheirLine()
    {
        string Told(string text) => Assert.Throws<VembarException>(() => Parse(Head + text)).Message;
        Assert.Contains("line 3: the key's name 'kkkkkkkkkkkkkkkkkkkk…' has 256 characters; 255 are possible",
            Told($"[HKEY_LOCAL_MACHINE\\SOFTWARE\\{new string('k', 256)}]\n"), StringComparison.Ordinal);
        Assert.Contains("line 3: the key is 602 keys deep; 512 are possible",
            Told($"[HKEY_LOCAL_MACHINE\\SOFTWARE{string.Concat(Enumerable.Repeat("\\d", 600))}]\n"), StringComparison.Ordinal);
        Assert.Contains("line 4: the value's name 'vvvvvvvvvvvvvvvvvvvv…' has 16384 characters",
            Told($"[HKEY_LOCAL_MACHINE\\SOFTWARE\\x]\n\"{new string('v', 16_384)}\"=dword:1\n"), StringComparison.Ordinal);
    }

    [Fact]
    public void LongTextsAndManyContinuedLinesAreReadAsTheyStand()
    {
        var bytes = Enumerable.Range(0, 200_000).Select(i => (byte)i).ToArray();
        var hex = string.Join(",\\\r\n  ",
            bytes.Chunk(25).Select(c => string.Join(',',
            c.Select(b => b.ToString("x2", System.Globalization.CultureInfo.InvariantCulture)))));
        var lines = Parse($"{Head}[HKEY_LOCAL_MACHINE\\SOFTWARE\\x]\r\n\"data\"=hex:{hex}\r\n\"text\"=\"one\r\ntwo \\\"quoted\\\" "
            + $"[three]\r\nfour\"\r\n\"last\"=dword:1\r\n");
        Assert.Equal(bytes, lines[1].Edit.Bytes);
        Assert.Equal("one\ntwo \"quoted\" [three]\nfour\0", Encoding.Unicode.GetString(lines[2].Edit.Bytes));
        Assert.Equal(("last", 8007), (lines[3].Edit.Name, lines[3].Line));
    }

    [Fact]
    public void ManyLinesOfAFileAreMadeKeyByKey()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var text = new StringBuilder(Head);
        for (var i = 0; i < 20_000; i++)
            text.Append(System.Globalization.CultureInfo.InvariantCulture,
                $"[HKEY_LOCAL_MACHINE\\SOFTWARE\\Tarn Valley\\Shelf {i % 4000}]\r\n\"v{i / 4000}\"=dword:{i:x}\r\n");
        text.Append("[-HKEY_LOCAL_MACHINE\\SOFTWARE\\Tarn Valley\\Shelf 7]\r\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\Tarn Valley\\Shelf "
            + "7]\r\n\"again\"=dword:1\r\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\Tarn Valley\\Shelf 8]\r\n\"v0\"=-\r\n");
        var change = new RegistryChange(folder.Write("many.reg", text.ToString()));
        Assert.Equal(ChangeStatus.Done, Do.Service(archive, null, change).Changes.Single().Status);
        Do.WithTree(archive, 1, t =>
        {
            var shelves = WindowsInstall.OpenHive(t, "Windows", "SOFTWARE").Key("Tarn Valley")!;
            Assert.Equal(4000, shelves.Subkeys.Count(k => k.Name.StartsWith("Shelf ", StringComparison.Ordinal)));
            Assert.Equal(["again"], shelves.Key("Shelf 7")!.Values.Select(v => v.Name));
            Assert.Equal(["v1", "v2", "v3", "v4"], shelves.Key("Shelf 8")!.Values.Select(v => v.Name));
            Assert.Equal(19_999u, shelves.Key("Shelf 3999")!.GetDword("v4"));
            return 0;
        });
    }

    [Fact]
    public void TheRegistryIsWrittenAnewOnlyByItsName()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        string Keys() => Do.WithTree(archive, 1, t => Told(WindowsInstall.OpenHive(t, "Windows", "SOFTWARE").Root));
        long Length() =>
            Do.WithTree(archive, 1,
            t => t.ReadFile(WindowsPath.Parse("Windows/System32/config/SOFTWARE"), RegistryHive.Longest)!.LongLength);
        var (keys, length) = (Keys(), Length());
        Do.Service(archive, null,
            new RegistryChange(folder.Write("much.reg",
            $"{Head}[HKEY_LOCAL_MACHINE\\SOFTWARE\\Much]\r\n\"v\"=\"{new string('x', 100_000)}\"\r\n")));
        Do.Service(archive, null, new RegistryChange(folder.Write("gone.reg", $"{Head}[-HKEY_LOCAL_MACHINE\\SOFTWARE\\Much]\r\n")));
        Assert.True(Length() > length + 190_000);
        Assert.DoesNotContain(Do.Service(archive, null, new TidyChange(["all"])).Changes, c => c.What == "registry");
        var done = Do.Service(archive, null, new TidyChange(["registry"])).Changes.Single();
        Assert.Equal(ChangeStatus.Done, done.Status);
        Assert.Matches("SOFTWARE (19[5-9]|20[0-9]) KiB", done.Why);
        Assert.Equal(keys, Keys());
        Assert.InRange(Length(), 4096, length);
        Assert.Equal(ChangeStatus.Already, Do.Service(archive, null, new TidyChange(["registry"])).Changes.Single().Status);
    }

    private static string Told(RegistryKey key, string path = "") =>
        string.Concat(key.Values.Select(v => $"{path}|{v.Name}|{v.Type}|{Convert.ToHexString(v.Bytes)}\n"))
        + string.Concat(key.Subkeys.Select(k => $"{path}\\{k.Name}\n{Told(k, $"{path}\\{k.Name}")}"));

    [Fact]
    public void AHiveWithNewerLogsIsNotChangedAndCanBeLookedAt()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var log = new byte[1024];
        "HvLE"u8.CopyTo(log.AsSpan(512));
        BitConverter.GetBytes(100).CopyTo(log, 512 + 12);
        Do.Service(archive, null, new PutChange(folder.Write("SOFTWARE.LOG1", log), "Windows/System32/config/"));
        var change = new RegistryChange(folder.Write("x.reg", $"{Head}[HKEY_LOCAL_MACHINE\\SOFTWARE\\x]\r\n\"v\"=dword:1\r\n"));
        var told = Do.Service(archive, null, change).Changes.Single();
        Assert.Equal(ChangeStatus.Refused, told.Status);
        Assert.Contains("lacks changes that only its log 'LOG1' holds (entry 100), and is not changed", told.Why, StringComparison.Ordinal);
        Assert.NotEmpty(Do.Show(ImageReference.Parse(archive + "#1")).Programs!);
    }

    [Fact]
    public void AnUndoneEditLeavesTheKeysAsTheyWere()
    {
        var name = Gen.Int[0, 2].Select(i => $"k{i}");
        var edit = Gen.Select(name.Array[1, 3], Gen.Int[0, 2], Gen.Enum<RegistryEditKind>(), Gen.Int[0, 3], (path, value, kind, text) =>
            new RegistryEdit("S", string.Join('\\', path), $"v{value}", kind,
            kind is RegistryEditKind.Append or RegistryEditKind.RemoveTexts ? RegistryType.MultiString : RegistryType.String,
            Encoding.Unicode.GetBytes($"t{text}\0\0")));
        static string Dump(RegistryKey key, string path) =>
            string.Concat(key.Values.OrderBy(v => v.Name, StringComparer.Ordinal)
            .Select(v => $"{path}/{v.Name} {v.Type} {Convert.ToHexString(v.Bytes)}\n"))
                + string.Concat(key.Subkeys.OrderBy(k => k.Name, StringComparer.Ordinal)
                .Select(k => $"{path}/{k.Name}\n{Dump(k, $"{path}/{k.Name}")}"));
        Gen.Select(edit.Array[0, 6], edit.Array[1, 8]).Sample((before, edits) =>
        {
            var hive = RegistryHive.Open(RegistryHive.NewEmpty(), write: true, "test");
            foreach (var e in before)
                e.Apply(hive.Root);
            var dump = Dump(hive.Root, "");
            var undo = new List<RegistryEdit>();
            foreach (var e in edits)
            {
                undo.InsertRange(0, e.Undo(hive.Root));
                e.Apply(hive.Root);
                Assert.True(e.IsMade(hive.Root));
            }
            foreach (var e in undo)
                e.Apply(hive.Root);
            Assert.Equal(dump, Dump(hive.Root, ""));
        }, iter: 300);
    }

    [Fact]
    public void FirstStartCommandsRunInOrderBesideWhatOthersWrote()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        string Script() =>
            Do.WithTree(archive, 1,
            t => Encoding.UTF8.GetString(t.ReadFile(WindowsPath.Parse("Windows/Setup/Scripts/SetupComplete.cmd"), 10_000) ?? []));
        var one = new FirstStartChange(new FirstStartCommand("", "msiexec /i \"%SystemDrive%\\set up\\shelfmark.msi\" /qn", [0]));
        var two = new FirstStartChange(new FirstStartCommand("Reader set-up", @"C:\setup\reader.exe", [0, 3010]));
        Do.Service(archive, null, one, two);
        var text = Script();
        Assert.StartsWith("@echo off\r\nrem begin vembar command 1\r\n", text, StringComparison.Ordinal);
        Assert.Contains("cmd /d /c \"msiexec /i \"%SystemDrive%\\set up\\shelfmark.msi\" /qn\"\r\n", text, StringComparison.Ordinal);
        Assert.Contains("if \"%VEMBAR_CODE%\"==\"3010\" set VEMBAR_WORD=done\r\n", text, StringComparison.Ordinal);
        Assert.True(text.IndexOf("shelfmark", StringComparison.Ordinal) < text.IndexOf("reader.exe", StringComparison.Ordinal));
        Assert.All(Do.Service(archive, null, one, two).Changes, c => Assert.Equal(ChangeStatus.Already, c.Status));
        Assert.Equal(text, Script());
        // A script of somebody else's keeps its lines.
        Do.Service(archive, null,
            new PutChange(folder.Write("SetupComplete.cmd", "@echo off\r\ncall mine.cmd\r\n"), "Windows/Setup/Scripts/"));
        Do.Service(archive, null, two);
        Assert.StartsWith("@echo off\r\ncall mine.cmd\r\nrem begin vembar Reader set-up\r\n", Script(), StringComparison.Ordinal);
        Assert.Equal(ChangeStatus.Refused,
            Do.Service(archive, null, new FirstStartChange(new FirstStartCommand("", "two\nlines", [0]))).Changes.Single().Status);
    }

    [Fact]
    public void SettingsOfUsersThatAreThereAreChanged()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        const string User = "S-1-5-21-1000200030-4000500060-7000800090-1001", Head = "Windows Registry Editor Version 5.00\r\n";
        var change = folder.Write("user.reg",
            $"{Head}[HKEY_USERS\\{User}\\Software\\Shelfmark]\r\n\"Desk\"=\"14\"\r\n[HKEY_USERS\\{User}_Classes\\.shelf]\r\n"
            + $"@=\"book\"\r\n");
        Assert.Equal($"line 2: the image has no user {User}; it has S-1-5-18",
            Do.Service(archive, "x", new RegistryChange(change)).Changes.Single().Why);
        var list = folder.Write("list.reg",
            $"{Head}[HKEY_LOCAL_MACHINE\\SOFTWARE\\Microsoft\\Windows "
            + $"NT\\CurrentVersion\\ProfileList\\{User}]\r\n\"ProfileImagePath\"=\"C:\\\\Users\\\\desk\"\r\n");
        Do.Service($"{archive}#1", null, new RegistryChange(list));
        Assert.Equal($"line 2: the hive of the user {User} is not where ProfileList says",
            Do.Service($"{archive}#1", "x", new RegistryChange(change)).Changes.Single().Why);
        var hive = folder.Write("empty", RegistryHive.NewEmpty("ROOT"));
        Do.Service($"{archive}#1", null, new PutChange(hive, "Users/desk/NTUSER.DAT"),
            new PutChange(hive, "Users/desk/AppData/Local/Microsoft/Windows/UsrClass.dat"));
        Assert.Equal(ChangeStatus.Done, Do.Service($"{archive}#1", null, new RegistryChange(change)).Changes.Single().Status);
        Assert.Equal(ChangeStatus.Already, Do.Service($"{archive}#1", null, new RegistryChange(change)).Changes.Single().Status);
        foreach (var (path, key) in ((string, string)[])[("Users/desk/NTUSER.DAT", "/Software/Shelfmark/Desk,SZ,14"),
            ("Users/desk/AppData/Local/Microsoft/Windows/UsrClass.dat", "/.shelf/,SZ,book")])
        {
            File.WriteAllBytes(folder.At("out"), Do.WithTree(archive, 1, t => t.ReadFile(WindowsPath.Parse(path), 1 << 20)!));
            Assert.Contains(key, Tools.Run("reglookup", [folder.At("out")]), StringComparison.Ordinal);
        }
    }

    // Values that are changed together take the room that the others give up: month after month the hive stays as long as it is.
    [Fact]
    public void ValuesThatAreChangedTogetherNeedNoMoreRoom()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        long Changed(int round)
        {
            var text = new System.Text.StringBuilder(Head + "[HKEY_LOCAL_MACHINE\\SOFTWARE\\Tarn Valley\\Rounds]\r\n");
            for (var i = 0; i < 60; i++)
                text.Append(System.Globalization.CultureInfo.InvariantCulture,
                    $"\"v{i}\"=\"{new string('x', 10 + (round * 37 + i * 11) % 200)}\"\r\n");
            Assert.Equal(ChangeStatus.Done,
                Do.Service($"{archive}#1", null, new RegistryChange(folder.Write("round.reg", text.ToString()))).Changes.Single().Status);
            return Do.WithTree(archive, 1, t => t.ReadFile(WindowsInstall.HivePath("Windows", "SOFTWARE"), RegistryHive.Longest)!).Length;
        }
        var first = Changed(0);
        var most = Enumerable.Range(1, 24).Max(Changed);
        // The values themselves are not equally long in each round.
        Assert.InRange(most, first, first + 4096);
    }
}
