using Vembar.Images.Records;
using Vembar.Volumes.Sources;

namespace Vembar.Operations.UserData;

/// <summary>What was kept.</summary>
/// <param name="Archive">The archive.</param>
/// <param name="Image">The image.</param>
/// <param name="IsNew">Whether it was added; false where the newest image of the machine holds the same already.</param>
/// <param name="Stats">What it took.</param>
/// <param name="LeftOut">What was left out by a rule.</param>
/// <param name="Warnings">What should be known.</param>
/// <param name="IsReadBack">Whether all of it was read again from where it is; else the station looked at it before it took it.</param>
public sealed record SaveUserDataResult(string Archive, ImageRecord Image, bool IsNew, StoreStats Stats,
    IReadOnlyList<ExcludedEntry> LeftOut, IReadOnlyList<string> Warnings, bool IsReadBack);
