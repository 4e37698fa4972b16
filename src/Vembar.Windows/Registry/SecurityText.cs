using System.Buffers.Binary;
using System.Globalization;
using System.Text;
using System.Text.RegularExpressions;

namespace Vembar.Windows.Registry;

/// <summary>Security descriptors as text (SDDL) and as the self-relative bytes that NTFS keeps.</summary>
/// <remarks>Source: [MS-DTYP] 2.4.2 (SID), 2.4.4 (ACE), 2.4.5 (ACL), 2.4.6 (SECURITY_DESCRIPTOR), 2.5.1 (SDDL). Conditions and resource
/// attributes are not taken.</remarks>
public static partial class SecurityText
{
    private const int HeaderLength = 20, AclHeader = 8, AceHeader = 8, LongestAcl = ushort.MaxValue;
    private const ushort DaclPresent = 0x4, SaclPresent = 0x10, SelfRelative = 0x8000;

    private static readonly (string Word, string Sid)[] s_sids =
    [
        ("BA", "S-1-5-32-544"), ("BU", "S-1-5-32-545"), ("BG", "S-1-5-32-546"), ("PU", "S-1-5-32-547"), ("SO", "S-1-5-32-549"),
        ("PO", "S-1-5-32-550"), ("BO", "S-1-5-32-551"), ("RE", "S-1-5-32-552"), ("RD", "S-1-5-32-555"), ("NO", "S-1-5-32-556"),
        ("SY", "S-1-5-18"), ("LS", "S-1-5-19"), ("NS", "S-1-5-20"), ("WD", "S-1-1-0"), ("AU", "S-1-5-11"), ("IU", "S-1-5-4"),
        ("NU", "S-1-5-2"), ("SU", "S-1-5-6"), ("AN", "S-1-5-7"), ("PS", "S-1-5-10"), ("RC", "S-1-5-12"), ("WR", "S-1-5-33"),
        ("CO", "S-1-3-0"), ("CG", "S-1-3-1"), ("OW", "S-1-3-4"), ("AC", "S-1-15-2-1"), ("LW", "S-1-16-4096"), ("ME", "S-1-16-8192"),
        ("HI", "S-1-16-12288"), ("SI", "S-1-16-16384"),
    ];

    private static readonly (string Word, byte Type)[] s_types = [("A", 0), ("D", 1), ("AU", 2), ("AL", 3), ("ML", 0x11)];

    private static readonly (string Word, byte Flag)[] s_flags =
        [("OI", 1), ("CI", 2), ("NP", 4), ("IO", 8), ("ID", 0x10), ("SA", 0x40), ("FA", 0x80)];

    // The first that covers the whole is written; single ones are read and written after that.
    private static readonly (string Word, uint Right)[] s_whole = [("FA", 0x1F01FF), ("FR", 0x120089), ("FW", 0x120116), ("FX", 0x1200A0)];

    private static readonly (string Word, uint Right)[] s_rights =
    [
        ("GA", 0x10000000), ("GX", 0x20000000), ("GW", 0x40000000), ("GR", 0x80000000), ("SD", 0x10000), ("RC", 0x20000), ("WD", 0x40000),
        ("WO", 0x80000),
        ("CC", 0x1), ("DC", 0x2), ("LC", 0x4), ("SW", 0x8), ("RP", 0x10), ("WP", 0x20), ("DT", 0x40), ("LO", 0x80), ("CR", 0x100),
    ];

    private static readonly (string Word, uint Right)[] s_labels = [("NW", 1), ("NR", 2), ("NX", 4)];

    [GeneratedRegex(@"\G(?<part>[OGDS]):(?<body>(?:(?![OGDS]:)[^(])*(?:\([^()]*\))*)")]
    private static partial Regex PartForm();

    [GeneratedRegex(@"\(([^()]*)\)")]
    private static partial Regex AceForm();

    /// <summary>Reads a text.</summary>
    /// <param name="text">O:…G:…D:…S:…; each part may be missing.</param>
    /// <param name="problem">What is wrong with it; empty when nothing is.</param>
    /// <returns>The self-relative descriptor; null when there is a problem.</returns>
    public static byte[]? Parse(string text, out string problem)
    {
        var parts = new Dictionary<char, string>();
        var at = 0;
        problem = "";
        foreach (Match match in PartForm().Matches(text))
        {
            if (!parts.TryAdd(match.Groups["part"].Value[0], match.Groups["body"].Value))
                problem = $"'{match.Groups["part"].Value}:' stands there twice";
            at = match.Index + match.Length;
        }
        if (problem.Length == 0 && (at != text.Length || parts.Count == 0))
            problem = at < text.Length ? $"'{text[at..]}' makes no sense; O:, G:, D: and S: begin its parts" : "it is empty";
        byte[]? owner = null, group = null, dacl = null, sacl = null;
        var control = SelfRelative;
        foreach (var (part, body) in problem.Length == 0 ? parts : [])
        {
            switch (part)
            {
                case 'O':
                    owner = Sid(body, ref problem);
                    break;
                case 'G':
                    group = Sid(body, ref problem);
                    break;
                default:
                    var acl = Acl(body, part == 'D', ref control, ref problem);
                    _ = part == 'D' ? dacl = acl : sacl = acl;
                    break;
            }
        }
        if (problem.Length > 0)
            return null;
        var bytes = new byte[HeaderLength + new[] { owner, group, sacl, dacl }.Sum(p => p?.Length ?? 0)];
        bytes[0] = 1;
        BinaryPrimitives.WriteUInt16LittleEndian(bytes.AsSpan(2), control);
        var place = HeaderLength;
        foreach (var (offset, piece) in new[] { (4, owner), (8, group), (12, sacl), (16, dacl) })
        {
            if (piece is null)
                continue;
            BinaryPrimitives.WriteInt32LittleEndian(bytes.AsSpan(offset), place);
            piece.CopyTo(bytes, place);
            place += piece.Length;
        }
        return bytes;
    }

    private static byte[]? Sid(string text, ref string problem)
    {
        var full = s_sids.FirstOrDefault(s => s.Word == text).Sid ?? text;
        var parts = full.Split('-');
        const int MostParts = 15;
        if (parts.Length is < 3 or > MostParts + 3 || parts[0] != "S" || parts[1] != "1"
            || !ulong.TryParse(parts[2], NumberStyles.None, CultureInfo.InvariantCulture, out var authority) || authority >> 48 != 0
            || parts.Skip(3).Any(p => !uint.TryParse(p, NumberStyles.None, CultureInfo.InvariantCulture, out _)))
        {
            problem = text.Length == 2 && text.All(char.IsAsciiLetterUpper)
                ? $"'{text}' is nobody that every machine knows; write the whole identifier (S-1-…)"
                : $"'{text}' is not an identifier: BA and S-1-5-32-544 are";
            return null;
        }
        var bytes = new byte[8 + 4 * (parts.Length - 3)];
        bytes[0] = 1;
        bytes[1] = (byte)(parts.Length - 3);
        for (var i = 0; i < 6; i++)
            bytes[2 + i] = (byte)(authority >> (8 * (5 - i)));
        for (var i = 3; i < parts.Length; i++)
            BinaryPrimitives.WriteUInt32LittleEndian(bytes.AsSpan(8 + 4 * (i - 3)), uint.Parse(parts[i], CultureInfo.InvariantCulture));
        return bytes;
    }

    private static byte[]? Acl(string body, bool isDacl, ref ushort control, ref string problem)
    {
        control |= isDacl ? DaclPresent : SaclPresent;
        var open = body.IndexOf('(');
        var flags = open < 0 ? body : body[..open];
        if (flags == "NO_ACCESS_CONTROL")
            return null;
        for (var rest = flags; rest.Length > 0;)
        {
            var (word, flag) = rest.StartsWith("AR", StringComparison.Ordinal) ? ("AR", isDacl ? 0x100 : 0x200)
                : rest.StartsWith("AI", StringComparison.Ordinal) ? ("AI", isDacl ? 0x400 : 0x800)
                : rest[0] == 'P' ? ("P", isDacl ? 0x1000 : 0x2000) : ("", 0);
            if (word.Length == 0)
            {
                problem = $"'{flags}' are not flags of a list: P, AR and AI are";
                return null;
            }
            control |= (ushort)flag;
            rest = rest[word.Length..];
        }
        var entries = new List<byte[]>();
        foreach (Match match in AceForm().Matches(body))
        {
            if (Ace(match.Groups[1].Value, ref problem) is not { } ace)
                return null;
            entries.Add(ace);
        }
        var bytes = new byte[AclHeader + entries.Sum(e => e.Length)];
        if (bytes.Length > LongestAcl)
        {
            problem = "the list has more entries than a descriptor can hold";
            return null;
        }
        bytes[0] = 2;
        BinaryPrimitives.WriteUInt16LittleEndian(bytes.AsSpan(2), (ushort)bytes.Length);
        BinaryPrimitives.WriteUInt16LittleEndian(bytes.AsSpan(4), (ushort)entries.Count);
        var at = AclHeader;
        foreach (var entry in entries)
        {
            entry.CopyTo(bytes, at);
            at += entry.Length;
        }
        return bytes;
    }

    private static byte[]? Ace(string text, ref string problem)
    {
        var fields = text.Split(';');
        if (fields.Length != 6 || fields[3].Length + fields[4].Length > 0)
        {
            problem = $"'({text})' is not an entry: (type;flags;rights;;;who) is";
            return null;
        }
        if (s_types.FirstOrDefault(t => t.Word == fields[0]) is not { Word: not null } type)
        {
            problem = $"'{fields[0]}' in '({text})' is not a type that files have: {string.Join(", ", s_types.Select(t => t.Word))} are";
            return null;
        }
        if (Words(fields[1], [.. s_flags.Select(f => (f.Word, (uint)f.Flag))]) is not { } flags)
        {
            problem = $"'{fields[1]}' in '({text})' are not flags: {string.Join(", ", s_flags.Select(f => f.Word))} are";
            return null;
        }
        var rights = fields[2].StartsWith("0x", StringComparison.OrdinalIgnoreCase)
            ? uint.TryParse(fields[2].AsSpan(2), NumberStyles.HexNumber, CultureInfo.InvariantCulture, out var hex) ? hex : null
            : Words(fields[2], type.Type == 0x11 ? s_labels : [.. s_whole, .. s_rights]);
        if (rights is not { } mask)
        {
            problem = $"'{fields[2]}' in '({text})' are not rights: FA, FR, FW, FX and 0x1f01ff are";
            return null;
        }
        if (Sid(fields[5], ref problem) is not { } sid)
            return null;
        var bytes = new byte[AceHeader + sid.Length];
        bytes[0] = type.Type;
        bytes[1] = (byte)flags;
        BinaryPrimitives.WriteUInt16LittleEndian(bytes.AsSpan(2), (ushort)bytes.Length);
        BinaryPrimitives.WriteUInt32LittleEndian(bytes.AsSpan(4), mask);
        sid.CopyTo(bytes, AceHeader);
        return bytes;
    }

    // Words of two letters each, added up.
    private static uint? Words(string text, (string Word, uint Value)[] known)
    {
        var sum = 0u;
        for (var at = 0; at < text.Length; at += 2)
        {
            if (at + 2 > text.Length || known.FirstOrDefault(k => text.AsSpan(at, 2).SequenceEqual(k.Word)) is not { Word: not null } word)
                return null;
            sum |= word.Value;
        }
        return sum;
    }

    /// <summary>The text of a descriptor; null when it holds what this text has no words for, or is damaged.</summary>
    public static string? Format(ReadOnlySpan<byte> descriptor)
    {
        if (descriptor.Length < HeaderLength || descriptor[0] != 1)
            return null;
        var control = BinaryPrimitives.ReadUInt16LittleEndian(descriptor[2..]);
        var text = new StringBuilder();
        foreach (var (offset, part) in new[] { (4, 'O'), (8, 'G') })
        {
            var at = BinaryPrimitives.ReadUInt32LittleEndian(descriptor[offset..]);
            if (at == 0)
                continue;
            if (at > descriptor.Length || SidText(descriptor[(int)at..]) is not { } sid)
                return null;
            text.Append(part).Append(':').Append(sid);
        }
        foreach (var (offset, part, present, flags) in new[] { (16, 'D', DaclPresent,
            new[] { (0x1000, "P"), (0x100, "AR"), (0x400, "AI") }), (12, 'S', SaclPresent, [(0x2000, "P"), (0x200, "AR"), (0x800, "AI")]) })
        {
            if ((control & present) == 0)
                continue;
            var at = BinaryPrimitives.ReadUInt32LittleEndian(descriptor[offset..]);
            text.Append(part).Append(':').AppendJoin("", flags.Where(f => (control & f.Item1) != 0).Select(f => f.Item2));
            if (at == 0)
                text.Append("NO_ACCESS_CONTROL");
            else if (at > descriptor.Length || !AclText(descriptor[(int)at..], text))
                return null;
        }
        return text.ToString();
    }

    private static string? SidText(ReadOnlySpan<byte> bytes)
    {
        if (bytes.Length < 8 || bytes[0] != 1 || bytes.Length < 8 + 4 * bytes[1])
            return null;
        var authority = 0ul;
        for (var i = 2; i < 8; i++)
            authority = (authority << 8) | bytes[i];
        var text = new StringBuilder("S-1-").Append(authority);
        for (var i = 0; i < bytes[1]; i++)
            text.Append('-').Append(BinaryPrimitives.ReadUInt32LittleEndian(bytes[(8 + 4 * i)..]));
        var whole = text.ToString();
        return s_sids.FirstOrDefault(s => s.Sid == whole).Word ?? whole;
    }

    private static bool AclText(ReadOnlySpan<byte> acl, StringBuilder text)
    {
        if (acl.Length < AclHeader || BinaryPrimitives.ReadUInt16LittleEndian(acl[2..]) is var length && length > acl.Length)
            return false;
        var at = AclHeader;
        for (var left = BinaryPrimitives.ReadUInt16LittleEndian(acl[4..]); left > 0; left--)
        {
            if (at + AceHeader > acl.Length)
                return false;
            var ace = acl[at..];
            var size = BinaryPrimitives.ReadUInt16LittleEndian(ace[2..]);
            var (kind, own) = (ace[0], ace[1]);
            var type = s_types.FirstOrDefault(t => t.Type == kind).Word;
            var flags = s_flags.Where(f => (own & f.Flag) != 0).ToList();
            if (size < AceHeader || size > ace.Length || type is null || flags.Aggregate(0, (all, f) => all | f.Flag) != own
                || SidText(ace[AceHeader..size]) is not { } sid)
                return false;
            var mask = BinaryPrimitives.ReadUInt32LittleEndian(ace[4..]);
            text.Append('(').Append(type).Append(';').AppendJoin("", flags.Select(f => f.Word)).Append(';')
                .Append(RightsText(mask, type == "ML")).Append(";;;").Append(sid).Append(')');
            at += size;
        }
        return true;
    }

    private static string RightsText(uint mask, bool isLabel)
    {
        if (!isLabel && s_whole.FirstOrDefault(w => w.Right == mask).Word is { } whole)
            return whole;
        var words = (isLabel ? s_labels : s_rights).Where(r => (mask & r.Right) != 0).ToList();
        return mask != 0 && words.Aggregate(0u, (all, w) => all | w.Right) == mask ? string.Concat(words.Select(w => w.Word))
            : string.Create(CultureInfo.InvariantCulture, $"0x{mask:x}");
    }
}
