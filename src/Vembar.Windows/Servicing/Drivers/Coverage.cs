namespace Vembar.Windows.Servicing.Drivers;

/// <summary>Tells beforehand which driver Windows would choose for the devices of hardware models.</summary>
public static class Coverage
{
    /// <summary>Chooses for every device of every model.</summary>
    public static IReadOnlyList<ModelCoverage> Of(IReadOnlyList<HardwareProfile> profiles, IReadOnlyList<CandidateDriver> drivers)
    {
        var byId = new Dictionary<string, List<(CandidateDriver Driver, CandidateModel Model, int Place)>>(
            StringComparer.OrdinalIgnoreCase);
        foreach (var driver in drivers)
        {
            foreach (var model in driver.Models)
            {
                for (var place = 0; place < model.Ids.Count; place++)
                {
                    if (!byId.TryGetValue(model.Ids[place], out var list))
                        byId[model.Ids[place]] = list = [];
                    list.Add((driver, model, place));
                }
            }
        }
        // Of one driver only its best match counts.
        List<DriverMatch> Matches(IReadOnlyList<string> hardwareIds, IReadOnlyList<string> compatibleIds)
        {
            var matches = new List<DriverMatch>();
            void Match(IReadOnlyList<string> ids, bool compatible)
            {
                for (var place = 0; place < ids.Count; place++)
                {
                    foreach (var (driver, model, at) in byId.GetValueOrDefault(ids[place]) ?? [])
                    {
                        matches.Add(new DriverMatch(driver, model.Description, ids[place], (compatible ? 2 : 0) + (at > 0 ? 1 : 0), place,
                            at, model.FeatureScore)
                        { Components = model.Components });
                    }
                }
            }
            Match(hardwareIds, compatible: false);
            Match(compatibleIds, compatible: true);
            return [.. matches.Order().DistinctBy(m => m.Driver)];
        }
        DeviceCoverage Choose(HardwareDevice device)
        {
            var matches = Matches(device.HardwareIds, device.CompatibleIds);
            var own = matches.Where(m => m.Driver.ExtensionId is null).ToList();
            var extensions = matches.Where(m => m.Driver.ExtensionId is not null).GroupBy(m => m.Driver.ExtensionId)
                .Select(g => g.OrderBy(m => !m.Driver.IsSigned).ThenByDescending(m => (m.Driver.Date, m.Driver.Version)).ToList()).ToList();
            var beside = extensions.ConvertAll(e => e[0]);
            var others = own.Skip(1).Concat(extensions.SelectMany(e => e.Skip(1))).ToList();
            AddComponents(own.Take(1).Concat(beside).SelectMany(m => m.Components), beside, others);
            return new DeviceCoverage(device, own.FirstOrDefault(), others) { Beside = beside };
        }
        // What brings components brings theirs as well.
        void AddComponents(IEnumerable<string> ids, List<DriverMatch> beside, List<DriverMatch> others)
        {
            var pending = new Queue<string>(ids);
            var seen = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
            while (pending.TryDequeue(out var id))
            {
                if (!seen.Add(id) || Matches([id], []) is not [var best, .. var worse])
                    continue;
                if (beside.All(m => m.Driver != best.Driver))
                    beside.Add(best);
                others.AddRange(worse);
                foreach (var more in best.Components)
                    pending.Enqueue(more);
            }
        }
        return [.. profiles.Select(p => new ModelCoverage(p.Model, [.. p.Devices.Select(Choose).OrderBy(d => d.Urgency)]))];
    }

    /// <summary>Whether every device that is needed has a driver.</summary>
    public static bool IsInOrder(IEnumerable<ModelCoverage> models) => models.SelectMany(m => m.Devices).All(d => d.Urgency >= 2);
}
