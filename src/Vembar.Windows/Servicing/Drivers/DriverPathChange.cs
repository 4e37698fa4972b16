using Vembar.Common;
using Vembar.Images.Paths;
using Vembar.Images.Records;
using Vembar.Windows.Registry;

namespace Vembar.Windows.Servicing.Drivers;

/// <summary>Puts driver packages into a folder that Windows searches when it meets a new device: the documented second way.</summary>
/// <param name="paths">Folders, INF files or zip files.</param>
/// <param name="options">How they are let in; versions and models are not looked at.</param>
/// <remarks>Source: the vendor's "Configure Windows to search additional folders for device drivers".</remarks>
public sealed class DriverPathChange(IReadOnlyList<string> paths, DriverOptions options) : IChange
{
    private const string Folder = "Drivers", SearchPath = @"%SystemDrive%\Drivers", DefaultPath = @"%SystemRoot%\inf";

    /// <inheritdoc/>
    public IEnumerable<ChangeOutcome> Apply(ServiceContext context)
    {
        ChangeOutcome Outcome(string what, ChangeStatus status, string why) => new("driver-path", what, status, why);
        if (context.Install is not { } install || WindowsTarget.Of(install) is not { } windows)
            return [.. paths.Select(p => Outcome(p, ChangeStatus.Refused,
                context.Install is null ? "the image holds no Windows" : "the image does not say which architecture it is for"))];
        if (context.Hive("SOFTWARE") is not { } software)
            return [.. paths.Select(p => Outcome(p, ChangeStatus.Refused, "the image has no SOFTWARE hive"))];
        var outcomes = new List<ChangeOutcome>();
        foreach (var found in DriverFound.In(paths, windows, null, outcomes, context.Cancellation))
        {
            var displayName = found.Found.DisplayName;
            if (found is not { Status: ChangeStatus.Done, Driver: { } driver })
            {
                outcomes.Add(Outcome(displayName, found.Status, found.Why));
                continue;
            }
            try
            {
                List<DriverFound> all = [found];
                DriverFound.AddCopied(all, windows, null);
                var signature = options.Trust.Check(driver);
                if (signature.State != SignatureState.Signed && !options.AllowUnsigned)
                    outcomes.Add(Outcome(displayName, ChangeStatus.Refused, $"{signature.Word}: {signature.Why}"));
                else if (driver.IsPrimitive)
                    outcomes.Add(Outcome(displayName, ChangeStatus.Refused, "it is for no device, so Windows will not look for it; "
                        + "--driver installs it"));
                else if (all.Skip(1).FirstOrDefault(a => WhyNot(a) is not null) is { } brought)
                    outcomes.Add(Outcome(displayName, ChangeStatus.Refused, $"it brings {brought.Found.Name}, which cannot go in: "
                        + $"{WhyNot(brought)}"));
                else
                    outcomes.Add(Put(context, software, [.. all.Select(a => a.Driver!)], signature,
                        why => Outcome(displayName, why.Length > 0 ? ChangeStatus.Done : ChangeStatus.Already,
                            why.Length > 0 ? why : "it is there")));
            }
            catch (VembarException problem) when (problem.Kind is ErrorKind.Input or ErrorKind.Environment)
            {
                outcomes.Add(Outcome(displayName, ChangeStatus.Refused, problem.Message));
            }
        }
        return outcomes;
    }

    private string? WhyNot(DriverFound brought)
    {
        if (brought is not { Status: ChangeStatus.Done, Driver: { } driver })
            return brought.Why;
        return options.AllowUnsigned || options.Trust.Check(driver) is not { State: not SignatureState.Signed } signature ? null
            : $"{signature.Word}: {signature.Why}";
    }

    // A package and those that it brings, which it looks for in its own folder.
    private static ChangeOutcome Put(ServiceContext context, RegistryHive software, IReadOnlyList<FittedDriver> all,
        DriverSignature signature, Func<string, ChangeOutcome> outcome)
    {
        var driver = all[0];
        var name = driver.StoreFolder();
        var folder = WindowsPath.Parse($"{Folder}/{name}");
        var changed = false;
        if (!context.Tree.Exists(folder))
        {
            foreach (var file in all.SelectMany(d => d.Files).Distinct(StringComparer.OrdinalIgnoreCase))
                context.Tree.PutFile(file.Split('/').Aggregate(folder, (at, part) => at.Child(part)), driver.Package.Folder.Content(file));
            if (signature.State != SignatureState.Signed)
                context.UnsignedDrivers.Add(new UnsignedDriver($"{Folder}/{name}", driver.Package.InfName, signature.Word, signature.Why));
            changed = true;
        }
        var key = software.Root.Ensure(@"Microsoft\Windows\CurrentVersion");
        var before = key.GetString("DevicePath") ?? DefaultPath;
        if (!before.Split(';').Contains(SearchPath, StringComparer.OrdinalIgnoreCase))
        {
            key.SetString("DevicePath", $"{before};{SearchPath}", RegistryType.ExpandString);
            context.MarkModified("SOFTWARE");
            changed = true;
        }
        var signed = signature.State == SignatureState.Signed ? signature.Why : $"NOT TRUSTED, {signature.Word}: {signature.Why}";
        return outcome(changed
            ? $"{driver.Package.Provider} {driver.Package.Class} {driver.Package.Version}, in {folder}; Windows looks there when it "
            + $"meets a device; "
            + $"{signed}" : "");
    }
}
