using System.Globalization;
using System.Text;

/// <summary>A collection of driver packages as large as a vendor's, and models that need a few of them.</summary>
internal static class DriverPool
{
    private const int Packages = 700, Names = 175, DevicesOfModel = 25;

    /// <summary>Writes 700 packages of 175 names below a folder, each with 5 to 250 devices and three files.</summary>
    public static void Write(string folder)
    {
        var random = new Random(7);
        (string Name, string Id)[] classes =
        [
            ("Net", "{4d36e972-e325-11ce-bfc1-08002be10318}"), ("SCSIAdapter", "{4d36e97b-e325-11ce-bfc1-08002be10318}"),
            ("MEDIA", "{4d36e96c-e325-11ce-bfc1-08002be10318}"), ("Display", "{4d36e968-e325-11ce-bfc1-08002be10318}"),
        ];
        for (var n = 0; n < Packages; n++)
        {
            var name = string.Create(CultureInfo.InvariantCulture, $"drv{n % Names:000}");
            var place = Path.Combine(folder, string.Create(CultureInfo.InvariantCulture, $"v{n % 20:00}/p{n:000}"));
            Directory.CreateDirectory(place);
            var (kind, id) = classes[n % classes.Length];
            var text = new StringBuilder();
            text.Append(CultureInfo.InvariantCulture, $"""
                [Version]
                Signature="$WINDOWS NT$"
                Class={kind}
                ClassGuid={id}
                Provider=%V%
                DriverVer={1 + n % 12:00}/{1 + n % 28:00}/20{20 + n / Names},{n / Names}.{n % Names}.0.1
                CatalogFile={name}.cat
                [Manufacturer]
                %V%=M,NTamd64
                [M.NTamd64]
                %D%=I0,{Device(n)}

                """);
            for (int k = 0, count = ((int[])[5, 20, 80, 250])[random.Next(4)]; k < count; k++)
                text.Append(CultureInfo.InvariantCulture,
                    $"%D%=I{k % 3},PCI\\VEN_F1C0&DEV_{n % Names:X2}{k:X2}&SUBSYS_{random.Next(1 << 16):X4}F1C0\r\n");
            for (var i = 0; i < 3; i++)
            {
                text.Append(CultureInfo.InvariantCulture,
                    $"[I{i}.NT]\r\nCopyFiles=C{i}\r\nAddReg=R{i}\r\n[I{i}.NT.Services]\r\nAddService={name},2,S\r\n"
                    + $"[C{i}]\r\n{name}{i}.sys\r\n[R{i}]\r\n");
                for (var k = 0; k < 60; k++)
                    text.Append(CultureInfo.InvariantCulture, $"HKR,Ndi\\params\\p{k},Default,,{k}\r\n");
                var bytes = new byte[((int[])[20_000, 100_000, 400_000])[random.Next(3)]];
                random.NextBytes(bytes);
                File.WriteAllBytes(Path.Combine(place, string.Create(CultureInfo.InvariantCulture, $"{name}{i}.sys")), bytes);
            }
            text.Append(CultureInfo.InvariantCulture,
                $"[S]\r\nServiceType=1\r\nStartType=3\r\nErrorControl=1\r\nServiceBinary=%12%\\{name}0.sys\r\n"
                + $"[DestinationDirs]\r\nDefaultDestDir=12\r\n[SourceDisksNames]\r\n1=d\r\n[SourceDisksFiles]\r\n");
            for (var i = 0; i < 3; i++)
                text.Append(CultureInfo.InvariantCulture, $"{name}{i}.sys=1\r\n");
            text.Append("[Strings]\r\nV=\"Corrin Silicon\"\r\nD=\"Device\"\r\n");
            File.WriteAllText(Path.Combine(place, name + ".inf"), text.ToString());
        }
    }

    /// <summary>Writes the profile of a model with devices of 25 of the packages.</summary>
    public static void WriteModel(string path, int model)
    {
        var text = new StringBuilder(string.Create(CultureInfo.InvariantCulture, $"model: Model {model}\ndevices:\n"));
        for (var i = 0; i < DevicesOfModel; i++)
            text.Append(CultureInfo.InvariantCulture,
                $"  - name: device {i}\n    hardware: ['{Device((model * 233 + i * 28) % Packages)}']\n");
        File.WriteAllText(path, text.ToString());
    }

    private static string Device(int package) => string.Create(CultureInfo.InvariantCulture, $@"PCI\VEN_F1C1&DEV_{package:X4}");
}
