using Vembar.Images.Paths;

namespace Vembar.Windows.Inspection;

/// <summary>What else is known of an install that is checked.</summary>
public sealed record ReadinessOptions
{
    /// <summary>Bytes below a path; null leaves sizes out.</summary>
    public Func<WindowsPath, long>? SizeOf { get; init; }

    /// <summary>Whether it is an image, and not the reference itself.</summary>
    public bool IsImage { get; init; }

    /// <summary>The path of the answer file that servicing put in; null when it put none in.</summary>
    public string? OwnAnswerFile { get; init; }
}
