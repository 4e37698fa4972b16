using System.Text;
using Vembar.Common;

namespace Vembar.Cli.Commands.Places;

/// <summary>Asks for what nobody else is to see.</summary>
internal static class SecretPrompt
{
    private const int Longest = 16 << 10;

    /// <summary>Asks for a line that may be seen.</summary>
    /// <param name="question">The question.</param>
    /// <param name="option">What answers it beforehand.</param>
    public static string Ask(string question, string option)
    {
        if (Console.IsInputRedirected)
            throw new VembarException(ErrorKind.Usage, "no-user", "it was not said who you are there", $"Give {option}.");
        Console.Error.Write(Text.Safe(question));
        return Console.In.ReadLine()?.Trim() is { Length: > 0 } answer ? answer
            : throw new VembarException(ErrorKind.Usage, "no-user", "no user was given", $"Give {option}.");
    }

    /// <summary>Asks for a secret without showing it; where nobody is there to ask, it is the first line of standard input.</summary>
    public static string AskSecret(string question)
    {
        var secret = Console.IsInputRedirected ? ReadLine() : Type(question);
        if (secret.Length == 0)
            throw new VembarException(ErrorKind.Usage, "no-secret", "no password or token was given",
                "Type it, or give it by standard input.");
        return secret.Any(char.IsControl) ? throw new VembarException(ErrorKind.Usage, "bad-secret",
            "a password or token holds no control characters", "Give it as one line.") : secret;
    }

    private static string ReadLine()
    {
        var line = new StringBuilder();
        for (int next; (next = Console.In.Read()) is not (-1 or '\n') && line.Length <= Longest;)
            line.Append((char)next);
        return line.ToString().TrimEnd('\r');
    }

    private static string Type(string question)
    {
        Console.Error.Write(Text.Safe(question));
        var typed = new StringBuilder();
        while (Console.ReadKey(intercept: true) is var key && key.Key != ConsoleKey.Enter)
        {
            if (key.Key == ConsoleKey.Backspace && typed.Length > 0)
                typed.Length--;
            else if (!char.IsControl(key.KeyChar))
                typed.Append(key.KeyChar);
        }
        Console.Error.WriteLine();
        return typed.ToString();
    }
}
