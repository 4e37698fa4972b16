using Vembar.Images.Records;
using Vembar.Windows.Servicing;

namespace Vembar.Operations.Service;

/// <summary>What servicing did.</summary>
/// <param name="Archive">The archive.</param>
/// <param name="Image">The image as it is now recorded; the old one when nothing was written.</param>
/// <param name="Written">Whether the archive was changed.</param>
/// <param name="Changes">How each change ended.</param>
/// <param name="BytesStored">Bytes that the archive grew by.</param>
/// <param name="Seconds">Time taken.</param>
public sealed record ServiceResult(string Archive, ImageRecord Image, bool Written, IReadOnlyList<ChangeOutcome> Changes, long BytesStored,
    double Seconds)
{
    /// <summary>What should be known.</summary>
    public IReadOnlyList<string> Notes { get; init; } = [];

    /// <summary>True when a change was refused.</summary>
    public bool Refused => Changes.Any(c => c.Status == ChangeStatus.Refused);

    /// <summary>True when a refused change held the others back, so that nothing was written.</summary>
    public bool HeldBack { get; init; }
}
