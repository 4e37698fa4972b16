using System.Buffers.Binary;
using System.Formats.Asn1;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;

namespace Vembar.Demo;

/// <summary>Makes security catalogs that list files by their hashes, signed by the demo's made-up signer.</summary>
/// <remarks>Source: RFC 2315 (SignedData); the vendor's documentation of certificate trust lists and catalog members.</remarks>
internal static class Catalog
{
    private const string SignedData = "1.2.840.113549.1.7.2", TrustList = "1.3.6.1.4.1.311.10.1", CatalogList = "1.3.6.1.4.1.311.12.1.1",
        CatalogMember = "1.3.6.1.4.1.311.12.1.2";
    private const string IndirectData = "1.3.6.1.4.1.311.2.1.4", ImageData = "1.3.6.1.4.1.311.2.1.15", FlatData = "1.3.6.1.4.1.311.2.1.25",
        Sha256Oid = "2.16.840.1.101.3.4.2.1";

    private const string Data = "1.2.840.113549.1.9.3", Digest = "1.2.840.113549.1.9.4", Rsa = "1.2.840.113549.1.1.1";

    private static readonly byte[] s_programLink = [0x30, 0x09, 0x03, 0x01, 0x00, 0xA0, 0x04, 0xA2, 0x02, 0x80, 0x00],
        s_flatLink = [0xA2, 0x02, 0x80, 0x00];

    public static byte[] Make(string seed, DateTime time, IEnumerable<byte[]> files)
    {
        var list = new AsnWriter(AsnEncodingRules.DER);
        WriteList(list, seed, time, files);
        var content = list.Encode();
        var signer = Signing.Signer;
        var writer = new AsnWriter(AsnEncodingRules.DER);
        using (writer.PushSequence())
        {
            writer.WriteObjectIdentifier(SignedData);
            using (writer.PushSequence(new Asn1Tag(TagClass.ContextSpecific, 0)))
            using (writer.PushSequence())
            {
                writer.WriteInteger(1);
                using (writer.PushSetOf())
                    WriteAlgorithm(writer, Sha256Oid);
                using (writer.PushSequence())
                {
                    writer.WriteObjectIdentifier(TrustList);
                    using (writer.PushSequence(new Asn1Tag(TagClass.ContextSpecific, 0)))
                        writer.WriteEncodedValue(content);
                }
                using (writer.PushSetOf(new Asn1Tag(TagClass.ContextSpecific, 0)))
                    writer.WriteEncodedValue(signer.RawData);
                using (writer.PushSetOf())
                    WriteSigner(writer, signer, content);
            }
        }
        return writer.Encode();
    }

    private static void WriteAlgorithm(AsnWriter writer, string oid)
    {
        using (writer.PushSequence())
        {
            writer.WriteObjectIdentifier(oid);
            writer.WriteNull();
        }
    }

    // What is signed is the content without its tag and length (RFC 2315, 9.3), by way of two attributes.
    private static void WriteSigner(AsnWriter writer, X509Certificate2 signer, byte[] content)
    {
        AsnDecoder.ReadSequence(content, AsnEncodingRules.DER, out var from, out var length, out _);
        void WriteAttributes(AsnWriter to, Asn1Tag tag)
        {
            using (to.PushSetOf(tag))
            {
                using (to.PushSequence())
                {
                    to.WriteObjectIdentifier(Data);
                    using (to.PushSetOf())
                        to.WriteObjectIdentifier(TrustList);
                }
                using (to.PushSequence())
                {
                    to.WriteObjectIdentifier(Digest);
                    using (to.PushSetOf())
                        to.WriteOctetString(SHA256.HashData(content.AsSpan(from, length)));
                }
            }
        }
        var signed = new AsnWriter(AsnEncodingRules.DER);
        WriteAttributes(signed, Asn1Tag.SetOf);
        using (writer.PushSequence())
        {
            writer.WriteInteger(1);
            using (writer.PushSequence())
            {
                writer.WriteEncodedValue(signer.IssuerName.RawData);
                writer.WriteInteger(signer.SerialNumberBytes.Span);
            }
            WriteAlgorithm(writer, Sha256Oid);
            WriteAttributes(writer, new Asn1Tag(TagClass.ContextSpecific, 0));
            WriteAlgorithm(writer, Rsa);
            writer.WriteOctetString(Signing.Key("signer").SignData(signed.Encode(), HashAlgorithmName.SHA256, RSASignaturePadding.Pkcs1));
        }
    }

    private static void WriteList(AsnWriter writer, string seed, DateTime time, IEnumerable<byte[]> files)
    {
        using var list = writer.PushSequence();
        using (writer.PushSequence())
            writer.WriteObjectIdentifier(CatalogList);
        writer.WriteOctetString(SHA256.HashData(System.Text.Encoding.UTF8.GetBytes(seed)).AsSpan(0, 16));
        writer.WriteUtcTime(time);
        using (writer.PushSequence())
        {
            writer.WriteObjectIdentifier(CatalogMember);
            writer.WriteNull();
        }
        using (writer.PushSequence())
        {
            foreach (var file in files)
            {
                var hash = FileHash(file);
                using (writer.PushSequence())
                {
                    writer.WriteOctetString(hash);
                    using (writer.PushSetOf())
                        WriteMember(writer, hash, IsProgram(file));
                }
            }
        }
    }

    private static void WriteMember(AsnWriter writer, byte[] hash, bool program)
    {
        using (writer.PushSequence())
        {
            writer.WriteObjectIdentifier(IndirectData);
            using (writer.PushSetOf())
            using (writer.PushSequence())
            {
                // What kind of file it is, with an empty link where signed programs have one.
                using (writer.PushSequence())
                {
                    writer.WriteObjectIdentifier(program ? ImageData : FlatData);
                    writer.WriteEncodedValue(program ? s_programLink : s_flatLink);
                }
                using (writer.PushSequence())
                {
                    using (writer.PushSequence())
                        writer.WriteObjectIdentifier(Sha256Oid);
                    writer.WriteOctetString(hash);
                }
            }
        }
    }

    private static bool IsProgram(byte[] file) => file.Length >= 0x100 && file[0] == 'M' && file[1] == 'Z';

    // Programs are hashed without the fields that signing them would change; everything else as it is.
    private static byte[] FileHash(byte[] file)
    {
        if (!IsProgram(file))
            return SHA256.HashData(file);
        var optional = BinaryPrimitives.ReadInt32LittleEndian(file.AsSpan(0x3C)) + 24;
        var checksum = optional + 64;
        var certificates = optional + (BinaryPrimitives.ReadUInt16LittleEndian(file.AsSpan(optional)) == 0x20B ? 112 : 96) + 4 * 8;
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        hash.AppendData(file.AsSpan(0, checksum));
        hash.AppendData(file.AsSpan(checksum + 4, certificates - checksum - 4));
        hash.AppendData(file.AsSpan(certificates + 8));
        return hash.GetHashAndReset();
    }
}
