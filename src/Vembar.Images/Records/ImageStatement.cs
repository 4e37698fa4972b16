using System.Globalization;
using System.Text;
using System.Text.Encodings.Web;
using System.Text.Json;
using Vembar.Store.Hashing;

namespace Vembar.Images.Records;

/// <summary>What is signed of an image: a text that names its root, its name and version, and a hash over what else is lasting of its
/// record. docs/signing.md has it byte by byte.</summary>
public static class ImageStatement
{
    /// <summary>What the statement calls itself.</summary>
    public const string Kind = "vembar image 1";

    /// <summary>The statement of an image, UTF-8.</summary>
    public static byte[] Of(ImageRecord image) => Write(writer =>
    {
        writer.WriteString("statement", Kind);
        writer.WriteString("root", image.Root.ToString());
        writer.WriteString("name", image.Name);
        writer.WriteString("version", image.Version);
        writer.WriteString("record", Blake3.Hash(Record(image)).ToString());
    });

    // What copying, marking and remarks leave as it is.
    private static byte[] Record(ImageRecord image) => Write(writer =>
    {
        writer.WriteString("edition", image.Edition);
        writer.WriteString("product", image.Product);
        writer.WriteString("build", image.Build);
        writer.WriteString("architecture", image.Architecture);
        writer.WriteString("languages", string.Join(',', image.Languages));
        writer.WriteString("computerName", image.ComputerName);
        writer.WriteString("state", image.State);
        writer.WriteString("created", image.Created.ToString("yyyy-MM-ddTHH:mm:ss.fffffffZ", CultureInfo.InvariantCulture));
        writer.WriteNumber("files", image.Files);
        writer.WriteNumber("folders", image.Folders);
        writer.WriteNumber("bytes", image.Bytes);
    });

    private static byte[] Write(Action<Utf8JsonWriter> members)
    {
        using var stream = new MemoryStream();
        using (var writer = new Utf8JsonWriter(stream, new JsonWriterOptions
        {
            Indented = true,
            IndentSize = 2,
            NewLine = "\n",
            Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
        }))
        {
            writer.WriteStartObject();
            members(writer);
            writer.WriteEndObject();
        }
        stream.Write("\n"u8);
        return stream.ToArray();
    }
}
