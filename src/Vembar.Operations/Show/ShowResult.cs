using Vembar.Images.Records;
using Vembar.Windows.Install;
using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Drivers;
using Vembar.Windows.Servicing.Files;
using Vembar.Windows.Servicing.FirstStart;
using Vembar.Windows.Servicing.Languages;
using Vembar.Windows.Servicing.Packages;

namespace Vembar.Operations.Show;

/// <summary>An image with what its hives say.</summary>
/// <param name="Archive">The archive's path.</param>
/// <param name="Image">The record.</param>
/// <param name="Programs">Programs; null when the image holds no Windows.</param>
/// <param name="Drivers">Drivers that were added; null when the image holds no Windows.</param>
/// <param name="InboxDrivers">Drivers that came with Windows; null unless drivers were asked for.</param>
public sealed record ShowResult(string Archive, ImageRecord Image, IReadOnlyList<InstalledProgram>? Programs,
    IReadOnlyList<ListedDriver>? Drivers, IReadOnlyList<ListedDriver>? InboxDrivers = null)
{
    /// <summary>Of added drivers that were looked into: "whole", or what is wrong with their files; by published name.</summary>
    public IReadOnlyDictionary<string, string> DriverFiles { get; init; } = new Dictionary<string, string>();

    /// <summary>Packages, also those whose place others took; null without Windows.</summary>
    public IReadOnlyList<InstalledPackage>? Packages { get; init; }

    /// <summary>Languages, formats, keyboard, time zone; null without Windows.</summary>
    public LocaleSettings? Locale { get; init; }

    /// <summary>Apps that every new user gets; null without Windows.</summary>
    public IReadOnlyList<ProvisionedApp>? Apps { get; init; }

    /// <summary>What tidying would do, rule by rule; null unless it was asked for.</summary>
    public IReadOnlyList<ChangeOutcome>? Tidy { get; init; }

    /// <summary>Commands for the first start; null without Windows.</summary>
    public IReadOnlyList<FirstStartCommand>? FirstStart { get; init; }

    /// <summary>How often generalizing was begun, as its log says; null where there is none.</summary>
    public int? Generalized { get; init; }

    /// <summary>What is wrong with signatures of the image, by signer; whether the others are trusted is not looked at.</summary>
    public IReadOnlyDictionary<string, string> BadSignatures { get; init; } = new Dictionary<string, string>();

    /// <summary>What of its hives and records is damaged; what is sound is shown all the same.</summary>
    public IReadOnlyList<string> Problems { get; init; } = [];
}
