namespace Vembar.Windows.Servicing.Drivers;

/// <summary>Takes added drivers out of the image.</summary>
/// <param name="name">The published name (oem3.inf), or the INF's own name for all its versions.</param>
public sealed class DriverRemoval(string name) : IChange
{
    /// <inheritdoc/>
    public IEnumerable<ChangeOutcome> Apply(ServiceContext context)
    {
        ChangeOutcome Outcome(ChangeStatus status, string why) => new("driver-out", name, status, why);
        var (store, why) = DriverStore.Open(context);
        if (store is null)
            return [Outcome(ChangeStatus.Refused, why.Text) with { Advice = why.Advice }];
        var wanted = name.EndsWith(".inf", StringComparison.OrdinalIgnoreCase) ? name : name + ".inf";
        var matching = store.Listed.Where(l => l.Inf.Equals(wanted, StringComparison.OrdinalIgnoreCase)).ToList();
        if (matching.Count == 0)
            matching = [.. store.Listed.Where(l => l.OriginalInf.Equals(wanted, StringComparison.OrdinalIgnoreCase))];
        if (matching.Count == 0)
        {
            return [DriverDatabase.Read(context.Hive("SYSTEM")!, inbox: true)
                .Any(l => l.Inf.Equals(wanted, StringComparison.OrdinalIgnoreCase))
                ? Outcome(ChangeStatus.Refused, "it is one of Windows' own drivers")
                : Outcome(ChangeStatus.Already, "the image has no such driver")];
        }
        return [.. matching.OrderByDescending(l => DriverDatabase.Number(l.Inf)).Select(l =>
        {
            var bytes = store.Remove(l);
            return Outcome(ChangeStatus.Done, $"{l.Provider} {l.OriginalInf} {l.Version} ({l.Inf}) is out; {bytes >> 10} KiB less") with
            {
                Bytes = -bytes,
            };
        })];
    }
}
