using System.IO.Hashing;
using System.Text;

namespace Vembar.Demo;

/// <summary>Content made from a seed, always the same for the same seed: what program files hold, without being any.</summary>
internal sealed class Filler
{
    private static readonly byte[][] s_snippets = MakeSnippets();
    private static readonly string[] s_words = MakeWords();
    private ulong _state;

    public Filler(string seed) => _state = XxHash3.HashToUInt64(Encoding.UTF8.GetBytes(seed)) | 1;

    /// <summary>The next 64 bits (xorshift64*, Marsaglia 2003, Vigna 2016).</summary>
    public ulong Next()
    {
        _state ^= _state >> 12;
        _state ^= _state << 25;
        _state ^= _state >> 27;
        return _state * 0x2545F4914F6CDD1D;
    }

    /// <summary>A number below a limit.</summary>
    public int Below(int limit) => (int)(Next() % (ulong)limit);

    /// <summary>A size between two limits; small ones are more frequent, as in a folder of programs.</summary>
    public int Size(int least, int max) => (int)(least * Math.Pow((double)max / least, (Next() >> 11) * (1.0 / (1UL << 53))));

    /// <summary>Bytes that compress about as machine code does: frequent instruction forms with operands between them.</summary>
    public void Code(Span<byte> to)
    {
        var at = 0;
        while (at < to.Length)
        {
            var dice = Next();
            // Low numbers come far more often.
            var pick = (int)((dice & 0x7FF) * ((dice >> 11) & 0x7FF) >> 11);
            var snippet = s_snippets[pick % s_snippets.Length];
            var count = Math.Min(snippet.Length, to.Length - at);
            snippet.AsSpan(0, count).CopyTo(to[at..]);
            at += count;
            if ((dice >> 60) < 5 && at + 2 <= to.Length)
            {
                to[at++] = (byte)(dice >> 24);
                to[at++] = (byte)((dice >> 40) & 0x0F);
            }
        }
    }

    /// <summary>Bytes that do not compress.</summary>
    public byte[] Bytes(int count)
    {
        var bytes = new byte[count];
        Noise(bytes);
        return bytes;
    }

    public void Noise(Span<byte> to)
    {
        var at = 0;
        for (; at + 8 <= to.Length; at += 8)
            BitConverter.TryWriteBytes(to[at..], Next());
        for (; at < to.Length; at++)
            to[at] = (byte)Next();
    }

    /// <summary>Lines of made-up words.</summary>
    public string Text(int length)
    {
        var text = new StringBuilder(length + 16);
        var column = 0;
        while (text.Length < length)
        {
            var dice = Next();
            var word = s_words[(int)((dice & 0x3FF) * ((dice >> 10) & 0x3FF) >> 10) % s_words.Length];
            text.Append(word);
            column += word.Length + 1;
            text.Append(column > 76 ? "\r\n" : " ");
            column = column > 76 ? 0 : column;
        }
        return text.ToString(0, length);
    }

    /// <summary>A name of two or three syllables.</summary>
    public string Name()
    {
        string[] first = ["tarn", "fell", "beck", "moss", "rig", "dale", "holm", "scar", "thwa", "kirk", "ling", "wath", "gill", "haw",
            "birk", "ast", "rowan", "stain", "crag", "mire"];
        string[] second = ["net", "core", "shell", "disp", "auth", "page", "stor", "prn", "font", "audio", "ui", "cfg", "log", "crypt",
            "xml", "sync", "map", "task", "rpc", "usr"];
        return first[Below(first.Length)] + second[Below(second.Length)];
    }

    private static byte[][] MakeSnippets()
    {
        var filler = new Filler("snippets");
        var snippets = new byte[1536][];
        byte[] frequent =
            [0x48, 0x8B, 0x89, 0x83, 0xE8, 0xFF, 0x0F, 0x85, 0x84, 0xC0, 0xC3, 0x74, 0x75, 0x4C, 0x8D, 0x24, 0x00, 0x00, 0x01, 0x45];
        for (var i = 0; i < snippets.Length; i++)
        {
            snippets[i] = new byte[2 + filler.Below(6)];
            for (var j = 0; j < snippets[i].Length; j++)
                snippets[i][j] = filler.Below(3) > 0 ? frequent[filler.Below(frequent.Length)] : (byte)filler.Next();
        }
        return snippets;
    }

    private static string[] MakeWords()
    {
        var filler = new Filler("words");
        string[] parts = ["li", "bra", "ry", "de", "sk", "re", "ad", "er", "val", "ley", "ta", "rn", "bo", "ok", "mo", "bi", "le", "ca",
            "ta", "log", "en", "try", "is", "sue", "re", "turn", "sh", "elf", "ma", "rk"];
        return [.. Enumerable.Range(0, 700)
            .Select(_ => string.Concat(Enumerable.Range(0, 1 + filler.Below(3)).Select(_ => parts[filler.Below(parts.Length)])))];
    }
}
