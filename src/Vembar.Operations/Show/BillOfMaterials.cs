using System.Globalization;
using System.Text;
using System.Text.Json;
using Vembar.Common;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Store.Reading;
using Vembar.Windows.Install;
using Vembar.Windows.Servicing.Drivers;
using Vembar.Windows.Servicing.Files;
using Vembar.Windows.Servicing.Packages;

namespace Vembar.Operations.Show;

/// <summary>What an image is made of, for auditors: Windows, programs, apps, drivers and packages with versions, publishers and hashes,
/// as a CycloneDX 1.5 document (ECMA-424, JSON). The same image gives the same document.</summary>
public sealed class BillOfMaterials
{
    private const string HashName = "BLAKE3";

    private readonly ShowResult _image;
    private readonly Func<string, string?> _hashOfInf;
    private readonly HashSet<string> _references = [];

    private BillOfMaterials(ShowResult image, Func<string, string?> hashOfInf)
    {
        _image = image;
        _hashOfInf = hashOfInf;
    }

    /// <summary>The document.</summary>
    /// <param name="image">What was found in the image.</param>
    /// <param name="reference">The image, to look up files in it.</param>
    /// <param name="host">Where archives are.</param>
    /// <param name="version">The version of the program that writes it.</param>
    /// <exception cref="VembarException">The image is damaged, or holds no Windows.</exception>
    public static string Of(ShowResult image, ImageReference reference, OperationHost host, string version)
    {
        using var archive = ArchiveReader.Open(reference.Archive, host.Files);
        var tree = new ImageTree(archive, image.Image.Root, "");
        var windows = WindowsInstall.FindFolder(tree) ?? throw VembarException.Input("no-windows",
            $"image {image.Image.Number} holds no Windows", "What is listed are the parts of an install.");
        var infs = WindowsPath.Root.Child(windows).Child("INF");
        return new BillOfMaterials(image, inf => tree.Find(infs.Child(inf))?.Content?.Hash.ToString()).Write(version);
    }

    private string Write(string version)
    {
        using var stream = new MemoryStream();
        using (var json = new Utf8JsonWriter(stream, new JsonWriterOptions { Indented = true, NewLine = "\n" }))
        {
            json.WriteStartObject();
            json.WriteString("$schema", "http://cyclonedx.org/schema/bom-1.5.schema.json");
            json.WriteString("bomFormat", "CycloneDX");
            json.WriteString("specVersion", "1.5");
            json.WriteString("serialNumber", $"urn:uuid:{Serial(_image.Image)}");
            json.WriteNumber("version", 1);
            Metadata(json, version);
            json.WriteStartArray("components");
            foreach (var program in _image.Programs ?? [])
                Program(json, program);
            foreach (var app in _image.Apps ?? [])
                App(json, app);
            foreach (var driver in _image.Drivers ?? [])
                Driver(json, driver);
            foreach (var package in _image.Packages ?? [])
                Package(json, package);
            json.WriteEndArray();
            json.WriteEndObject();
        }
        return Encoding.UTF8.GetString(stream.ToArray()) + "\n";
    }

    // A UUID of the image's own (RFC 9562, version 8), from the hash of all that it holds.
    private static Guid Serial(ImageRecord image)
    {
        var bytes = Convert.FromHexString(image.Root.ToString())[..16];
        bytes[6] = (byte)((bytes[6] & 0x0F) | 0x80);
        bytes[8] = (byte)((bytes[8] & 0x3F) | 0x80);
        return new Guid(bytes, bigEndian: true);
    }

    private void Metadata(Utf8JsonWriter json, string version)
    {
        var image = _image.Image;
        json.WriteStartObject("metadata");
        json.WriteString("timestamp", image.Created.ToString("yyyy-MM-dd'T'HH:mm:ss'Z'", CultureInfo.InvariantCulture));
        json.WriteStartObject("tools");
        json.WriteStartArray("components");
        json.WriteStartObject();
        json.WriteString("type", "application");
        json.WriteString("name", "vembar");
        json.WriteString("version", version);
        json.WriteEndObject();
        json.WriteEndArray();
        json.WriteEndObject();
        json.WritePropertyName("component");
        Component(json, "operating-system", "windows", image.Product.Length > 0 ? image.Product : image.Name, image.Build, "");
        Hash(json, image.Root.ToString());
        Properties(json, ("image", image.Name), ("version", image.Version), ("edition", image.Edition),
            ("architecture", image.Architecture), ("languages", string.Join(", ", image.Languages)), ("state", image.State));
        json.WriteEndObject();
        json.WriteEndObject();
    }

    private void Program(Utf8JsonWriter json, InstalledProgram program)
    {
        Component(json, "application", $"program:{program.Name}@{program.Version}", program.Name, program.Version, program.Publisher);
        Properties(json, ("kind", "program"));
        json.WriteEndObject();
    }

    private void App(Utf8JsonWriter json, ProvisionedApp app)
    {
        Component(json, "application", $"app:{app.FullName}", app.Name, app.Version, "");
        Properties(json, ("kind", "provisioned-app"), ("full-name", app.FullName));
        json.WriteEndObject();
    }

    // By the hash of its INF file, which its signature covers with all others.
    private void Driver(Utf8JsonWriter json, ListedDriver driver)
    {
        Component(json, "device-driver", $"driver:{driver.Inf}", driver.OriginalInf, driver.Version, driver.Provider);
        if (_hashOfInf(driver.Inf) is { } hash)
            Hash(json, hash);
        Properties(json, ("kind", "driver"), ("published-as", driver.Inf),
            ("date", driver.Date?.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture) ?? ""));
        json.WriteEndObject();
    }

    private void Package(Utf8JsonWriter json, InstalledPackage package)
    {
        var version = PackageManifest.Show(package.Manifest.Version);
        Component(json, "application", $"package:{package.Manifest.Name}@{version}", package.Manifest.Name, version, "");
        Properties(json, ("kind", "package"), ("title", package.Manifest.Title), ("replaced-by", package.ReplacedBy ?? ""),
            ("features", string.Join(", ", package.Features.Where(f => f.IsOn).Select(f => f.Feature.Name))));
        json.WriteEndObject();
    }

    private void Component(Utf8JsonWriter json, string type, string id, string name, string version, string publisher)
    {
        json.WriteStartObject();
        json.WriteString("type", type);
        var reference = id;
        for (var again = 2; !_references.Add(reference); again++)
            reference = $"{id}:{again}";
        json.WriteString("bom-ref", reference);
        json.WriteString("name", name);
        if (version.Length > 0)
            json.WriteString("version", version);
        if (publisher.Length > 0)
            json.WriteString("publisher", publisher);
    }

    private static void Hash(Utf8JsonWriter json, string content)
    {
        json.WriteStartArray("hashes");
        json.WriteStartObject();
        json.WriteString("alg", HashName);
        json.WriteString("content", content);
        json.WriteEndObject();
        json.WriteEndArray();
    }

    private static void Properties(Utf8JsonWriter json, params ReadOnlySpan<(string Name, string Value)> properties)
    {
        json.WriteStartArray("properties");
        foreach (var (name, value) in properties)
        {
            if (value.Length == 0)
                continue;
            json.WriteStartObject();
            json.WriteString("name", $"vembar:{name}");
            json.WriteString("value", value);
            json.WriteEndObject();
        }
        json.WriteEndArray();
    }
}
