using System.Text;
using Vembar.Native;

namespace Vembar.Cli;

/// <summary>The words of the command line as they were given: names of files need not be UTF-8.</summary>
internal static class Arguments
{
    /// <summary>Puts those words that the framework could not read into the form in which names of Linux are kept here.</summary>
    public static string[] AsGiven(string[] args)
    {
        const char Replacement = '\uFFFD';
        if (!Array.Exists(args, a => a.Contains(Replacement)))
            return args;
        try
        {
            // proc(5): each word with a NUL behind it.
            var words = new List<byte[]>();
            var raw = File.ReadAllBytes("/proc/self/cmdline").AsSpan();
            for (int end; (end = raw.IndexOf((byte)0)) >= 0; raw = raw[(end + 1)..])
                words.Add(raw[..end].ToArray());
            var own = words[^args.Length..];
            return [.. args.Select((a, i) => a.Contains(Replacement) && Encoding.UTF8.GetString(own[i]) == a ? PosixName.Decode(own[i])
                : a)];
        }
        catch (Exception failure) when (failure is IOException or UnauthorizedAccessException or ArgumentOutOfRangeException)
        {
            return args;
        }
    }
}
