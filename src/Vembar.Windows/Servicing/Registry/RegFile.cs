using System.Globalization;
using System.Text;
using Vembar.Common;
using Vembar.Windows.Install;
using Vembar.Windows.Registry;

namespace Vembar.Windows.Servicing.Registry;

/// <summary>The text that Windows' registry editor exports: keys and values to set and to remove.</summary>
/// <remarks>Source: the vendor's "How to add, modify, or delete registry subkeys and values by using a .reg file"; [MS-RRP] for the value
/// types.</remarks>
public static class RegFile
{
    /// <summary>No file longer than this is read, in bytes.</summary>
    public const int Longest = 64 << 20;

    private const string CurrentSet = "CURRENTCONTROLSET";

    /// <summary>Reads a file.</summary>
    /// <param name="bytes">Its bytes: UTF-16 or UTF-8 with a mark, UTF-8, or the western code page.</param>
    /// <param name="displayName">What file it is, for messages.</param>
    /// <param name="currentSet">The name of the control set that Windows starts with ("ControlSet001").</param>
    /// <param name="cancellation">Ends it.</param>
    /// <exception cref="VembarException">It is not such a file; all mistakes are told with their lines.</exception>
    public static IReadOnlyList<RegLine> Parse(ReadOnlySpan<byte> bytes, string displayName, string currentSet = "ControlSet001",
        CancellationToken cancellation = default)
    {
        if (bytes.Length > Longest)
            throw VembarException.Input("bad-reg", $"'{displayName}' is too long to be a .reg file");
        using var lines = Lines(Decode(bytes)).GetEnumerator();
        var problems = new List<string>();
        if (!lines.MoveNext() || lines.Current.Text is not ("Windows Registry Editor Version 5.00" or "REGEDIT4"))
            throw VembarException.Input("bad-reg",
                $"'{displayName}' is not a .reg file: it does not begin with 'Windows Registry Editor Version 5.00'",
                "Export it from a registry editor, or write that as its first line.");
        var wide = lines.Current.Text != "REGEDIT4";
        var edits = new List<RegLine>();
        (string Hive, string Key)? at = null;
        var skipped = false;
        while (lines.MoveNext())
        {
            var (text, number) = lines.Current;
            cancellation.ThrowIfCancellationRequested();
            void Wrong(string problem) => problems.Add(string.Create(CultureInfo.InvariantCulture, $"line {number}: {problem}"));
            if (text[0] == '[')
            {
                skipped = false;
                at = null;
                if (text[^1] != ']')
                    Wrong("a key without ']'");
                else if (Place(text[1..^1].TrimStart('-'), currentSet, out var why) is not { } place)
                    Wrong(why);
                else if (text[1] == '-')
                {
                    if (place.Key.Length == 0)
                        Wrong("a whole hive cannot be removed");
                    else if (IsControlSet(place, currentSet))
                        Wrong($"'{place.Key}' is a control set; Windows does not start without it");
                    else
                        edits.Add(new RegLine(new RegistryEdit(place.Hive, place.Key, "", RegistryEditKind.DeleteKey, RegistryType.None,
                            []), number));
                    skipped = true;
                }
                else
                {
                    at = place;
                    if (place.Key.Length > 0)
                        edits.Add(new RegLine(new RegistryEdit(place.Hive, place.Key, "", RegistryEditKind.MakeKey, RegistryType.None, []),
                            number));
                }
                skipped |= at is null;
            }
            else if (at is { } key)
            {
                try
                {
                    edits.Add(new RegLine(Value(key.Hive, key.Key, text, wide), number));
                }
                catch (FormatException problem)
                {
                    Wrong(problem.Message);
                }
            }
            else if (!skipped)
                Wrong("a value before the first key");
            const int MostProblems = 20;
            if (problems.Count >= MostProblems)
                break;
        }
        return problems.Count == 0 ? edits
            : throw VembarException.Input("bad-reg", $"'{displayName}', {problems[0]}", "Correct the file; lines count from 1.",
            [.. problems.Skip(1)]);
    }

    private static string Decode(ReadOnlySpan<byte> bytes)
    {
        if (bytes.StartsWith((ReadOnlySpan<byte>)[0xFF, 0xFE]))
            return Encoding.Unicode.GetString(bytes[2..]);
        if (bytes.StartsWith((ReadOnlySpan<byte>)[0xEF, 0xBB, 0xBF]))
            bytes = bytes[3..];
        const int WesternCodePage = 1252;
        return System.Text.Unicode.Utf8.IsValid(bytes) ? Encoding.UTF8.GetString(bytes)
            : CodePagesEncodingProvider.Instance.GetEncoding(WesternCodePage)!.GetString(bytes);
    }

    // Lines without remarks and empty ones; those that end with '\' go on. A text in quotes may hold line ends.
    private static IEnumerable<(string Text, int Number)> Lines(string text)
    {
        var number = 0;
        var first = 0;
        var isQuoted = false;
        var pending = new StringBuilder();
        for (var start = 0; start <= text.Length;)
        {
            var end = text.IndexOf('\n', start) is >= 0 and var found ? found : text.Length;
            number++;
            if (pending.Length == 0)
                (first, isQuoted) = (number, false);
            if (Line(text.AsSpan(start, end - start), pending, ref isQuoted) is { } line)
                yield return (line, first);
            start = end + 1;
        }
        if (pending.Length > 0)
            yield return (pending.ToString(), first);
    }

    // A line that is at its end, with what came before it; null for one that goes on, or says nothing.
    private static string? Line(ReadOnlySpan<char> raw, StringBuilder pending, ref bool isQuoted)
    {
        var line = raw.TrimEnd("\r \t");
        if (!isQuoted)
            line = line.TrimStart();
        if (pending.Length == 0 && (line.Length == 0 || line[0] == ';'))
            return null;
        isQuoted = EndsQuoted(line, isQuoted);
        if (line.EndsWith('\\') && !isQuoted)
        {
            pending.Append(line[..^1]);
            return null;
        }
        if (isQuoted && (pending.Length > 0 ? pending[0] : line[0]) is '"' or '@')
        {
            pending.Append(line).Append('\n');
            return null;
        }
        if (pending.Length == 0)
            return line.ToString();
        var whole = pending.Append(line).ToString();
        pending.Clear();
        return whole;
    }

    // Whether a text in quotes goes on behind a line.
    private static bool EndsQuoted(ReadOnlySpan<char> line, bool isQuoted)
    {
        for (var i = 0; i < line.Length; i++)
        {
            if (line[i] == '\\' && isQuoted)
                i++;
            else if (line[i] == '"')
                isQuoted = !isQuoted;
        }
        return isQuoted;
    }

    private static (string Hive, string Key)? Place(string path, string currentSet, out string why)
    {
        why = "";
        var parts = path.Split('\\', StringSplitOptions.RemoveEmptyEntries);
        if (parts.Select(RegistryKey.KeyNameProblem).FirstOrDefault(p => p is not null) is { } problem)
        {
            why = problem;
            return null;
        }
        // Told before anything is changed: a change that ends half-way would leave its first half.
        if (parts.Length > RegistryKey.Deepest)
        {
            why = $"the key is {parts.Length} keys deep; {RegistryKey.Deepest} are possible";
            return null;
        }
        string Rest(int from) => string.Join('\\', parts[from..]);
        string At(int index) => index < parts.Length ? parts[index].ToUpperInvariant() : "";
        switch (At(0))
        {
            case "HKEY_LOCAL_MACHINE" or "HKLM" when At(1) is "SOFTWARE" or "SECURITY" or "SAM" or "DRIVERS" or "COMPONENTS":
                return (At(1), Rest(2));
            case "HKEY_LOCAL_MACHINE" or "HKLM" when At(1) == "SYSTEM":
                return ("SYSTEM", At(2) == CurrentSet ? string.Join('\\', parts[3..].Prepend(currentSet)) : Rest(2));
            case "HKEY_CLASSES_ROOT" or "HKCR":
                return ("SOFTWARE", string.Join('\\', parts[1..].Prepend("Classes")));
            case "HKEY_CURRENT_USER" or "HKCU":
                return (ServiceContext.NewUsers, Rest(1));
            case "HKEY_USERS" or "HKU" when At(1) is ".DEFAULT" or "S-1-5-18":
                return ("DEFAULT", Rest(2));
            case "HKEY_USERS" or "HKU" when UserProfiles.IsUser(At(1)):
                return (At(1), Rest(2));
            default:
                why = $"'{path}' is in no hive of an image that is not running; known are HKEY_LOCAL_MACHINE with SOFTWARE, SYSTEM, "
                    + $"SAM, SECURITY, DRIVERS or COMPONENTS, HKEY_CLASSES_ROOT, HKEY_CURRENT_USER (what new users get), "
                    + @"HKEY_USERS\.DEFAULT, and HKEY_USERS\S-1-… for users that the image has";
                return null;
        }
    }

    private static bool IsControlSet((string Hive, string Key) place, string currentSet)
    {
        const string Prefix = "ControlSet";
        return place.Hive == "SYSTEM" && (place.Key.Equals(currentSet, StringComparison.OrdinalIgnoreCase)
            || (place.Key.StartsWith(Prefix, StringComparison.OrdinalIgnoreCase) && place.Key.Length == Prefix.Length + 3
            && place.Key[Prefix.Length..].All(char.IsAsciiDigit)));
    }

    private static RegistryEdit Value(string hive, string key, string text, bool wide)
    {
        string name;
        int equals;
        if (text[0] == '@')
        {
            name = "";
            equals = 1;
        }
        else if (text[0] == '"')
            name = Quoted(text, 0, out equals);
        else
            throw new FormatException("a value begins with its name in quotes, or with @");
        if (RegistryKey.ValueNameProblem(name) is { } problem)
            throw new FormatException(problem);
        while (equals < text.Length && text[equals] is ' ' or '\t')
            equals++;
        if (equals >= text.Length || text[equals] != '=')
            throw new FormatException("there is no '=' behind the value's name");
        var data = text[(equals + 1)..].Trim();
        RegistryEdit Set(RegistryType type, byte[] bytes) => new(hive, key, name, RegistryEditKind.Set, type, bytes);
        if (data == "-")
            return new RegistryEdit(hive, key, name, RegistryEditKind.DeleteValue, RegistryType.None, []);
        if (data.StartsWith('"'))
        {
            var value = Quoted(data, 0, out var end);
            if (end < data.Length && data[end..].TrimStart() is { Length: > 0 } rest && rest[0] != ';')
                throw new FormatException("there is more behind the closing quote");
            return Set(RegistryType.String, Encoding.Unicode.GetBytes(value + "\0"));
        }
        if (data.StartsWith("dword:", StringComparison.OrdinalIgnoreCase))
            return uint.TryParse(data.AsSpan(6).Trim(), NumberStyles.HexNumber, CultureInfo.InvariantCulture, out var number)
                ? Set(RegistryType.Dword, BitConverter.GetBytes(number))
                : throw new FormatException($"'{data}' is not a number of up to eight hexadecimal digits");
        if (!data.StartsWith("hex", StringComparison.OrdinalIgnoreCase) || data.IndexOf(':') is not (> 0 and var colon))
            throw new FormatException($"'{(data.Length > 40 ? data[..40] : data)}' is not a value: a text in quotes, dword:, hex: or "
                + $"hex(N): is wanted, or - to remove it");
        var kind = RegistryType.Binary;
        if (colon > 3)
        {
            kind = data[3] == '(' && data[colon - 1] == ')'
                && uint.TryParse(data.AsSpan(4, colon - 5), NumberStyles.HexNumber, CultureInfo.InvariantCulture, out var type)
                ? (RegistryType)type : throw new FormatException($"'{data[..colon]}' is not a type");
        }
        var parts = data[(colon + 1)..].Split(',', StringSplitOptions.TrimEntries);
        if (parts is [""])
            parts = [];
        var bytes = Array.ConvertAll(parts,
            p => byte.TryParse(p, NumberStyles.HexNumber, CultureInfo.InvariantCulture, out var b) ? b
                : throw new FormatException($"'{p}' is not a byte in hexadecimal digits"));
        // The older form writes texts in bytes of one.
        if (!wide && kind is RegistryType.ExpandString or RegistryType.MultiString)
            bytes = Encoding.Unicode.GetBytes(Encoding.Latin1.GetString(bytes));
        return Set(kind, bytes);
    }

    private static string Quoted(string text, int start, out int end)
    {
        var value = new StringBuilder();
        for (var i = start + 1; i < text.Length; i++)
        {
            if (text[i] == '"')
            {
                end = i + 1;
                return value.ToString();
            }
            if (text[i] == '\\' && i + 1 < text.Length && text[i + 1] is '\\' or '"')
                i++;
            value.Append(text[i]);
        }
        throw new FormatException("a text without its closing quote");
    }
}
