using System.Buffers.Text;
using System.Security.Cryptography;
using System.Text;

namespace Vembar.Station.Database;

/// <summary>Secrets that are given out, and what is kept of them.</summary>
public static class Secrets
{
    private const int Length = 32, Rounds = 200_000, SaltLength = 16;

    /// <summary>Makes a secret that nobody guesses.</summary>
    /// <param name="kind">What it begins with, so that one sees what it is.</param>
    public static string Make(string kind) => $"{kind}_{Base64Url.EncodeToString(RandomNumberGenerator.GetBytes(Length))}";

    /// <summary>What is kept of a secret: with so much chance in it, its hash tells nothing.</summary>
    public static string Hash(string secret) => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(secret)));

    /// <summary>Makes a PIN of so many digits.</summary>
    public static string MakePin(int digits = 8) => string.Concat(Enumerable.Range(0, digits)
        .Select(_ => (char)('0' + RandomNumberGenerator.GetInt32(10))));

    /// <summary>What is kept of a PIN, which has little chance in it: trying it takes a while.</summary>
    public static string HashPin(string pin)
    {
        var salt = RandomNumberGenerator.GetBytes(SaltLength);
        return $"{Convert.ToHexStringLower(salt)}:{Convert.ToHexStringLower(Derive(pin, salt))}";
    }

    /// <summary>Whether a PIN is the one of which something was kept.</summary>
    public static bool IsPin(string pin, string kept) => kept.Split(':') is [var salt, var hash]
        && CryptographicOperations.FixedTimeEquals(Derive(pin, Convert.FromHexString(salt)), Convert.FromHexString(hash));

    private static byte[] Derive(string pin, byte[] salt) =>
        Rfc2898DeriveBytes.Pbkdf2(Encoding.UTF8.GetBytes(pin), salt, Rounds, HashAlgorithmName.SHA256, 32);
}
