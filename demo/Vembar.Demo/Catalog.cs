using System.Buffers.Binary;
using System.Formats.Asn1;
using System.Security.Cryptography;

namespace Vembar.Demo;

/// <summary>Makes security catalogs that list files by their hashes, without a signature.</summary>
/// <remarks>Source: RFC 2315 (SignedData); the vendor's documentation of certificate trust lists and catalog members.</remarks>
internal static class Catalog
{
    private const string SignedData = "1.2.840.113549.1.7.2", TrustList = "1.3.6.1.4.1.311.10.1", CatalogList = "1.3.6.1.4.1.311.12.1.1", CatalogMember = "1.3.6.1.4.1.311.12.1.2";
    private const string IndirectData = "1.3.6.1.4.1.311.2.1.4", ImageData = "1.3.6.1.4.1.311.2.1.15", Sha256Oid = "2.16.840.1.101.3.4.2.1";

    public static byte[] Make(string seed, DateTime time, IEnumerable<byte[]> files)
    {
        var writer = new AsnWriter(AsnEncodingRules.DER);
        using (writer.PushSequence())
        {
            writer.WriteObjectIdentifier(SignedData);
            using (writer.PushSequence(new Asn1Tag(TagClass.ContextSpecific, 0)))
            using (writer.PushSequence())
            {
                writer.WriteInteger(1);
                using (writer.PushSetOf())
                {
                    // No digest: nobody signed.
                }
                using (writer.PushSequence())
                {
                    writer.WriteObjectIdentifier(TrustList);
                    using (writer.PushSequence(new Asn1Tag(TagClass.ContextSpecific, 0)))
                        WriteList(writer, seed, time, files);
                }
                using (writer.PushSetOf())
                {
                    // No signer.
                }
            }
        }
        return writer.Encode();
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
                        WriteMember(writer, hash);
                }
            }
        }
    }

    private static void WriteMember(AsnWriter writer, byte[] hash)
    {
        using (writer.PushSequence())
        {
            writer.WriteObjectIdentifier(IndirectData);
            using (writer.PushSetOf())
            using (writer.PushSequence())
            {
                using (writer.PushSequence())
                    writer.WriteObjectIdentifier(ImageData);
                using (writer.PushSequence())
                {
                    using (writer.PushSequence())
                        writer.WriteObjectIdentifier(Sha256Oid);
                    writer.WriteOctetString(hash);
                }
            }
        }
    }

    // Programs are hashed without the fields that signing them would change; everything else as it is.
    private static byte[] FileHash(byte[] file)
    {
        if (file.Length < 0x100 || file[0] != 'M' || file[1] != 'Z')
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
