using System.Formats.Asn1;
using System.Security.Cryptography;
using System.Security.Cryptography.Pkcs;
using Vembar.Common;

namespace Vembar.Windows.Servicing.Drivers;

/// <summary>A security catalog: a signed list of the hashes of files.</summary>
/// <remarks>
/// Source: RFC 2315 (PKCS #7 SignedData); the vendor's "Certificate trust list" structures in wincrypt.h and "Windows
/// Authenticode Portable Executable Signature Format" for members and for the hash of programs.
/// </remarks>
public sealed class SecurityCatalog
{
    /// <summary>No catalog longer than this is read, in bytes.</summary>
    public const int Longest = 64 << 20;

    private const string TrustList = "1.3.6.1.4.1.311.10.1", IndirectData = "1.3.6.1.4.1.311.2.1.4";
    private const int Sha1Length = 20, Sha256Length = 32, MostMembers = 500_000;
    private readonly HashSet<string> _members = [];

    private SecurityCatalog(SignedCms cms) => Signature = cms;

    /// <summary>The signed message that carries the list.</summary>
    public SignedCms Signature { get; }

    /// <summary>How many hashes it lists.</summary>
    public int MemberCount => _members.Count;

    /// <summary>Reads a catalog. Its signature is not looked at.</summary>
    /// <exception cref="VembarException">It is not a catalog; the message says what is wrong.</exception>
    public static SecurityCatalog Parse(ReadOnlySpan<byte> bytes, string displayName)
    {
        if (bytes.Length > Longest)
            throw Bad(displayName, "it is too long to be one");
        try
        {
            var cms = new SignedCms();
            cms.Decode(bytes);
            if (cms.ContentInfo.ContentType.Value != TrustList)
                throw Bad(displayName, $"it signs something else (type {cms.ContentInfo.ContentType.Value})");
            var catalog = new SecurityCatalog(cms);
            catalog.ReadList(cms.ContentInfo.Content);
            return catalog;
        }
        catch (Exception failure) when (failure is CryptographicException or AsnContentException or OverflowException or ArgumentException)
        {
            throw Bad(displayName, failure.Message.TrimEnd('.'));
        }
    }

    private static VembarException Bad(string displayName, string problem) =>
        VembarException.Input("bad-catalog", $"'{displayName}' is not a security catalog: {problem}",
        "Take the driver package from its vendor again.");

    // The content is a sequence; its tag and length may have been taken off with the octet string that others wrap it in.
    private void ReadList(ReadOnlyMemory<byte> content)
    {
        var outer = new AsnReader(content, AsnEncodingRules.BER);
        var list = outer.ReadSequence();
        if (list.PeekTag().HasSameClassAndValue(Asn1Tag.Integer))
            list.ReadInteger();
        list.ReadSequence();
        if (list.PeekTag().HasSameClassAndValue(Asn1Tag.PrimitiveOctetString))
            list.ReadOctetString();
        if (list.PeekTag().HasSameClassAndValue(Asn1Tag.Integer))
            list.ReadInteger();
        list.ReadEncodedValue();
        if (list.HasData
            && (list.PeekTag().HasSameClassAndValue(Asn1Tag.UtcTime) || list.PeekTag().HasSameClassAndValue(Asn1Tag.GeneralizedTime)))
            list.ReadEncodedValue();
        list.ReadSequence();
        if (!list.HasData || !list.PeekTag().HasSameClassAndValue(Asn1Tag.Sequence))
            return;
        var members = list.ReadSequence();
        while (members.HasData)
        {
            if (_members.Count >= MostMembers)
                throw new CryptographicException("it lists too many files");
            ReadMember(members.ReadSequence());
        }
    }

    private void ReadMember(AsnReader member)
    {
        var subject = member.ReadOctetString();
        var hashed = false;
        if (member.HasData)
        {
            var attributes = member.ReadSetOf();
            while (attributes.HasData)
            {
                var attribute = attributes.ReadSequence();
                if (attribute.ReadObjectIdentifier() != IndirectData)
                    continue;
                var values = attribute.ReadSetOf();
                var data = values.ReadSequence();
                data.ReadEncodedValue();
                var digest = data.ReadSequence();
                digest.ReadSequence();
                _members.Add(Convert.ToHexString(digest.ReadOctetString()));
                hashed = true;
            }
        }
        // Without it the member's name is its hash: the bytes themselves, or their hexadecimal digits in UTF-16.
        if (hashed)
            return;
        if (subject.Length is Sha1Length or Sha256Length)
            _members.Add(Convert.ToHexString(subject));
        else if (System.Text.Encoding.Unicode.GetString(subject).TrimEnd('\0') is { Length: 2 * Sha1Length or 2 * Sha256Length } text
            && text.All(char.IsAsciiHexDigit))
            _members.Add(text.ToUpperInvariant());
    }

    /// <summary>Whether it lists a file with this content.</summary>
    /// <param name="content">The content from its start; programs are hashed as programs, all else as it is.</param>
    public bool Covers(Stream content)
    {
        using var sha1 = IncrementalHash.CreateHash(HashAlgorithmName.SHA1);
        using var sha256 = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        var padding = FileHash.Append(content, bytes =>
        {
            sha1.AppendData(bytes);
            sha256.AppendData(bytes);
        });
        bool IsListed() =>
            _members.Contains(Convert.ToHexString(sha256.GetCurrentHash()))
            || _members.Contains(Convert.ToHexString(sha1.GetCurrentHash()));
        if (IsListed() || padding == 0)
            return IsListed();
        // Those who list programs fill them up as signing them would, or do not.
        sha1.AppendData(new byte[padding]);
        sha256.AppendData(new byte[padding]);
        return IsListed();
    }
}
