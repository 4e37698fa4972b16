using System.Globalization;
using Vembar.Common;
using Vembar.Windows.Inspection;
using Vembar.Windows.Install;
using Vembar.Windows.Registry;
using Vembar.Windows.Servicing.Answers;
using Vembar.Windows.Servicing.Files;
using Vembar.Windows.Servicing.Registry;

namespace Vembar.Windows.Servicing.Mending;

/// <summary>Mends what the readiness checks find in an image, where that can be done without Windows.</summary>
/// <param name="names">The checks' names; "all" for all that are not only mended by their own name.</param>
public sealed class MendChange(IReadOnlyList<string> names) : IChange
{
    private const long LongestText = 16 << 20;
    private const string Logon = @"Microsoft\Windows NT\CurrentVersion\Winlogon", Cryptography = @"Microsoft\Cryptography";

    /// <inheritdoc/>
    public IEnumerable<ChangeOutcome> Apply(ServiceContext context)
    {
        static ChangeOutcome Outcome(string what, ChangeStatus status, string why) => new("mend", what, status, why);
        if (context.Install is null)
            return [Outcome(string.Join(", ", names), ChangeStatus.Refused, "the image holds no Windows")];
        var refused = names.Where(n => n != MendRule.Everything && MendRule.Find(n) is null)
            .Select(n => Outcome(n, ChangeStatus.Refused, WhyNot(n))).ToList();
        if (refused.Count > 0)
            return refused;
        var outcomes = new List<ChangeOutcome>();
        foreach (var rule in MendRule.All.Where(r => (r.IsOfAll && names.Contains(MendRule.Everything))
            || names.Contains(r.Name, StringComparer.OrdinalIgnoreCase)))
        {
            var before = context.Tree.BytesChanged;
            try
            {
                var said = Mend(context, rule.Name);
                outcomes.Add(said is null ? Outcome(rule.Name, ChangeStatus.Already, "there is nothing of it")
                    : Outcome(rule.Name, ChangeStatus.Done, said) with { Bytes = context.Tree.BytesChanged - before });
            }
            catch (VembarException problem) when (problem.Kind == ErrorKind.Input)
            {
                outcomes.Add(Outcome(rule.Name, ChangeStatus.Refused, problem.Message));
            }
        }
        return outcomes;
    }

    private static string WhyNot(string name) => MendRule.NotOffline.Contains(name, StringComparer.OrdinalIgnoreCase)
        ? "this cannot be fixed offline; it takes Windows on the reference, generalized and captured again"
        : $"there is no such check{EditDistance.Hint(name, MendRule.All.Select(r => r.Name).Append(MendRule.Everything))}";

    private static string? Mend(ServiceContext context, string name)
    {
        switch (name)
        {
            case MendRule.AnswerFilePassword:
                return AnswerFiles(context, withPassword: true);
            case MendRule.AnswerFileLeft:
                return AnswerFiles(context, withPassword: false);
            case MendRule.StoredPassword:
                if (context.Hive("SOFTWARE")?.Key(Logon)?.GetString("DefaultPassword") is not { Length: > 0 })
                    return null;
                var user = context.Hive("SOFTWARE")!.Key(Logon)!.GetString("DefaultUserName");
                Make(context, Delete(Logon, "DefaultPassword"), Delete(Logon, "AutoLogonCount"), Text(Logon, "AutoAdminLogon", "0"));
                return $"the password of {user ?? "nobody"} is out; change it wherever else it is used";
            case MendRule.AutomaticLogon:
                if (context.Hive("SOFTWARE")?.Key(Logon)?.GetString("AutoAdminLogon") != "1")
                    return null;
                Make(context, Text(Logon, "AutoAdminLogon", "0"), Delete(Logon, "AutoLogonCount"));
                return $"{context.Hive("SOFTWARE")!.Key(Logon)!.GetString("DefaultUserName") ?? "nobody"} is not logged on by himself "
                    + $"any more";
            case MendRule.OpticalDriver:
                return Start(context, "cdrom", from: 4, to: 1);
            case MendRule.MediaSharing:
                return Start(context, "WMPNetworkSvc", from: 2, to: 3);
            case MendRule.MountedDevices:
                var devices = context.Hive("SYSTEM")?.Key("MountedDevices")?.Values.Select(v => v.Name).ToList() ?? [];
                if (devices.Count == 0)
                    return null;
                Make(context, [.. devices.Select(d => new RegistryEdit("SYSTEM", "MountedDevices", d, RegistryEditKind.DeleteValue,
                    RegistryType.None, []))]);
                return string.Create(CultureInfo.InvariantCulture,
                    $"{devices.Count} {(devices.Count == 1 ? "value is" : "values are")} out");
            case MendRule.MachineGuid:
                if (context.Hive("SOFTWARE")?.Key(Cryptography)?.GetString("MachineGuid") is not { Length: > 0 } machine)
                    return null;
                Make(context, Delete(Cryptography, "MachineGuid"));
                return $"{machine} is out";
            case MendRule.UpdateClientId:
                if (context.Hive("SOFTWARE")?.Key(ReadinessCheck.UpdateClient)?.GetString("SusClientId") is not { Length: > 0 } client)
                    return null;
                Make(context, Delete(ReadinessCheck.UpdateClient, "SusClientId"),
                    Delete(ReadinessCheck.UpdateClient, "SusClientIdValidation"));
                return $"{client} is out";
            case MendRule.SetupLogs:
                return Files(context, "%Panther/**/*.log", "%Panther/**/*.etl", "%Panther/*.log", "%Panther/*.etl",
                    "%System32/Sysprep/Panther/**");
            default:
                return Files(context, "%MEMORY.DMP", "%Minidump/**", "%Temp/**", "%SoftwareDistribution/Download/**", "Windows.old",
                    "$WINDOWS.~BT", "$WINDOWS.~WS");
        }
    }

    private static string? AnswerFiles(ServiceContext context, bool withPassword)
    {
        var own = context.HasOwnAnswerFile ? context.Windows(AnswersChange.Place).ToString() : null;
        var gone = new List<string>();
        foreach (var path in ReadinessCheck.AnswerFilesOf(context.Tree, context.Install!.Folder))
        {
            if (path.ToString().Equals(own, StringComparison.OrdinalIgnoreCase)
                || context.Tree.ReadFile(path, LongestText) is not { } bytes || ReadinessCheck.HoldsPassword(bytes) != withPassword)
                continue;
            context.Tree.Remove(context.Tree.Find(path)!);
            gone.Add(path.ToString());
        }
        if (gone.Count == 0)
            return null;
        return $"{string.Join(", ", gone)} {(gone.Count == 1 ? "is" : "are")} "
            + $"out{(withPassword ? "; change the password wherever else it is used" : "")}";
    }

    private static string? Start(ServiceContext context, string service, uint from, uint to)
    {
        if (context.Hive("SYSTEM") is not { } system
            || WindowsInstall.ControlSet(system)?.Key($@"Services\{service}")?.GetDword("Start") != from)
            return null;
        Make(context, new RegistryEdit("SYSTEM", $@"{RegistryChange.CurrentSet(context)}\Services\{service}", "Start",
            RegistryEditKind.Set, RegistryType.Dword, BitConverter.GetBytes(to)));
        return string.Create(CultureInfo.InvariantCulture, $"{service}: Start is {to}");
    }

    private static string? Files(ServiceContext context, params IReadOnlyList<string> patterns)
    {
        var away = new Removal(context);
        foreach (var pattern in patterns)
            away.Take(pattern.StartsWith('%') ? $"{context.Install!.Folder}/{pattern[1..]}" : pattern);
        return away.Files + away.Folders == 0 ? null
            : string.Create(CultureInfo.InvariantCulture, $"{away.Files} {(away.Files == 1 ? "file is" : "files are")} out");
    }

    private static RegistryEdit Delete(string key, string value) =>
        new("SOFTWARE", key, value, RegistryEditKind.DeleteValue, RegistryType.None, []);

    private static RegistryEdit Text(string key, string value, string text) =>
        new("SOFTWARE", key, value, RegistryEditKind.Set, RegistryType.String, System.Text.Encoding.Unicode.GetBytes(text + "\0"));

    private static void Make(ServiceContext context, params IReadOnlyList<RegistryEdit> edits) => RegistryChange.MakeAll(context, edits);
}
