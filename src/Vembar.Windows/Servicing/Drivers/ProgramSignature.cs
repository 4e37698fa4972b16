using System.Buffers.Binary;
using System.Formats.Asn1;
using System.Security.Cryptography;
using System.Security.Cryptography.Pkcs;
using System.Security.Cryptography.X509Certificates;

namespace Vembar.Windows.Servicing.Drivers;

/// <summary>The signature that a program carries in itself.</summary>
/// <param name="State">Signed, Unsigned, WrongHash or BadSignature. Whether the signer is trusted is not looked at.</param>
/// <param name="Signer">The signer's name; empty when nobody signed it.</param>
/// <remarks>Source: the vendor's "Windows Authenticode Portable Executable Signature Format".</remarks>
public sealed record ProgramSignature(SignatureState State, string Signer)
{
    private const string IndirectData = "1.3.6.1.4.1.311.2.1.4";
    private const ushort SignedDataType = 2;

    /// <summary>Reads and checks the signature of a program.</summary>
    /// <param name="program">The whole file.</param>
    public static ProgramSignature Of(byte[] program)
    {
        if (Certificate(program) is not { } certificate)
            return new ProgramSignature(SignatureState.Unsigned, "");
        var name = "";
        try
        {
            var cms = new SignedCms();
            cms.Decode(certificate);
            if (cms.SignerInfos.Count == 0 || cms.SignerInfos[0].Certificate is not { } signer)
                return new ProgramSignature(SignatureState.BadSignature, "");
            name = signer.GetNameInfo(X509NameType.SimpleName, forIssuer: false);
            if (cms.ContentInfo.ContentType.Value != IndirectData)
                return new ProgramSignature(SignatureState.BadSignature, name);
            cms.SignerInfos[0].CheckSignature(verifySignatureOnly: true);
            return new ProgramSignature(IsOf(cms.ContentInfo.Content, program) ? SignatureState.Signed : SignatureState.WrongHash, name);
        }
        catch (Exception failure) when (failure is CryptographicException or AsnContentException or ArgumentException or OverflowException)
        {
            return new ProgramSignature(SignatureState.BadSignature, name);
        }
    }

    // The first certificate of type "signed data" in the table that the program's headers name; null when there is none.
    private static byte[]? Certificate(ReadOnlySpan<byte> program)
    {
        const int HeaderAt = 0x3C, CoffLength = 24, DirectoryLength = 8, CertificateDirectory = 4, Head = 8;
        if (program.Length < HeaderAt + 4 || !program.StartsWith("MZ"u8))
            return null;
        var pe = BinaryPrimitives.ReadInt32LittleEndian(program[HeaderAt..]);
        if (pe < 0 || pe > program.Length - CoffLength - 2 || !program[pe..].StartsWith("PE\0\0"u8))
            return null;
        var optional = pe + CoffLength;
        var directories = optional + (BinaryPrimitives.ReadUInt16LittleEndian(program[optional..]) == 0x20B ? 112 : 96);
        var entry = directories + CertificateDirectory * DirectoryLength;
        if (entry + DirectoryLength > program.Length
            || BinaryPrimitives.ReadUInt32LittleEndian(program[(directories - 4)..]) <= CertificateDirectory)
            return null;
        long at = BinaryPrimitives.ReadUInt32LittleEndian(program[entry..]);
        var end = at + BinaryPrimitives.ReadUInt32LittleEndian(program[(entry + 4)..]);
        while (at > 0 && at + Head <= Math.Min(end, program.Length))
        {
            var row = program[(int)at..];
            var length = BinaryPrimitives.ReadUInt32LittleEndian(row);
            if (length < Head || at + length > program.Length)
                return null;
            if (BinaryPrimitives.ReadUInt16LittleEndian(row[6..]) == SignedDataType)
                return row[Head..(int)length].ToArray();
            at += (length + 7) / 8 * 8;
        }
        return null;
    }

    // What is signed names the hash of the program: SpcIndirectDataContent { data, messageDigest { algorithm, digest } }.
    private static bool IsOf(ReadOnlyMemory<byte> content, byte[] program)
    {
        var outer = new AsnReader(content, AsnEncodingRules.BER).ReadSequence();
        outer.ReadEncodedValue();
        var digest = outer.ReadSequence();
        var algorithm = digest.ReadSequence().ReadObjectIdentifier();
        var expected = digest.ReadOctetString();
        if (Algorithm(algorithm) is not { } hash)
            return false;
        using var hashing = IncrementalHash.CreateHash(hash);
        using var stream = new MemoryStream(program, writable: false);
        var zeros = FileHash.Append(stream, hashing.AppendData);
        hashing.AppendData(new byte[zeros]);
        return hashing.GetHashAndReset().AsSpan().SequenceEqual(expected);
    }

    private static HashAlgorithmName? Algorithm(string oid) => oid switch
    {
        "1.3.14.3.2.26" => HashAlgorithmName.SHA1,
        "2.16.840.1.101.3.4.2.1" => HashAlgorithmName.SHA256,
        "2.16.840.1.101.3.4.2.2" => HashAlgorithmName.SHA384,
        "2.16.840.1.101.3.4.2.3" => HashAlgorithmName.SHA512,
        _ => null,
    };
}
