using Vembar.Common;
using Vembar.Operations.Sign;
using Vembar.Windows.Servicing.Drivers;

namespace Vembar.Station.Hosting;

/// <summary>What the station's file says now; it may be read again while the station runs.</summary>
public sealed class StationSettings
{
    private Loaded _now;

    private sealed record Loaded(StationOptions Options, IReadOnlyList<HardwareProfile> Profiles, ImageTrust? Signers, string? SignersText,
        IReadOnlyDictionary<string, string> Expectations, string? KeepRules);

    /// <param name="options">What the file says.</param>
    /// <exception cref="Common.VembarException">What it names is not there, or not what it should be.</exception>
    public StationSettings(StationOptions options) => _now = Load(options);

    /// <summary>What the file says.</summary>
    public StationOptions Options => _now.Options;

    /// <summary>Hardware profiles.</summary>
    public IReadOnlyList<HardwareProfile> Profiles => _now.Profiles;

    /// <summary>Those who may sign images; null for no demand.</summary>
    public ImageTrust? Signers => _now.Signers;

    /// <summary>Their certificates (PEM), for machines; null for no demand.</summary>
    public string? SignersText => _now.SignersText;

    /// <summary>Files of expectations, by their names: what stands in them.</summary>
    public IReadOnlyDictionary<string, string> Expectations => _now.Expectations;

    /// <summary>The rules by which user files are kept, as a file; null for what is usual.</summary>
    public string? KeepRules => _now.KeepRules;

    /// <summary>Takes what the file says from now on; all of it or nothing.</summary>
    /// <exception cref="Common.VembarException">What it names is not there, or not what it should be; then nothing changes.</exception>
    public void Take(StationOptions options) => _now = Load(options);

    private static Loaded Load(StationOptions options) => new(options,
        options.Hardware.Count > 0 ? HardwareProfile.ReadAll(options.Hardware) : [], ImageTrust.Load(options.Signers),
        PemOf(options.Signers), options.Expectations.ToDictionary(e => e.Name, e => Checked(e.Path)),
        RulesIn(options.UserFilesRules));

    private static string? RulesIn(string? path)
    {
        if (path is null)
            return null;
        _ = Windows.UserData.KeepRules.Read(path);
        return File.ReadAllText(path);
    }

    private static string? PemOf(IReadOnlyList<string> paths) => paths.Count == 0 ? null : string.Join('\n',
        TrustedCertificates.Load(paths).All.Select(c => c.ExportCertificatePem()));

    private static string Checked(string path)
    {
        if (Windows.Inspection.ReadinessRule.ReadExpectations(path).Any(r => r.NamesFile))
            throw VembarException.Input("bad-expectations",
                $"'{path}' expects drivers by a hardware profile, a file that machines do not have",
                "Take that out: whether each device has a driver is looked at anyway, before anything is written, by the profiles of the "
                + "station.");
        return File.ReadAllText(path);
    }
}
