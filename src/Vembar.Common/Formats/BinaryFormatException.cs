namespace Vembar.Common.Formats;

/// <summary>Bytes of a structure of the archive do not make sense.</summary>
public sealed class BinaryFormatException : Exception
{
    /// <summary>Creates the error.</summary>
    /// <param name="what">Which structure.</param>
    /// <param name="position">The byte at which it stopped making sense.</param>
    /// <param name="problem">What is wrong there.</param>
    public BinaryFormatException(string what, int position, string problem) : base($"{what}, byte {position}: {problem}")
    {
    }
}
