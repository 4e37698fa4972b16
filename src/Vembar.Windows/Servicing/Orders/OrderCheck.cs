using Vembar.Common;
using Vembar.Common.Files;
using Vembar.Images.Paths;
using Vembar.Windows.Servicing.Answers;
using Vembar.Windows.Servicing.Drivers;
using Vembar.Windows.Servicing.Files;
using Vembar.Windows.Servicing.Languages;
using Vembar.Windows.Servicing.Packages;
using Vembar.Windows.Servicing.Registry;

namespace Vembar.Windows.Servicing.Orders;

/// <summary>Checks what can be known of an order without an image: paths, locales, and what the files beside it hold.</summary>
public static class OrderCheck
{
    /// <summary>Checks.</summary>
    /// <returns>All problems, in the order's order, each once.</returns>
    public static IReadOnlyList<OrderProblem> Run(WorkOrder order)
    {
        var found = new List<OrderProblem>();
        foreach (var (kind, value, fields) in order.Items)
        {
            try
            {
                found.AddRange(Check(kind, value, fields).Select(notice => new OrderProblem(kind, value, notice)));
            }
            catch (VembarException problem)
            {
                found.AddRange(problem.Details.Prepend(problem.Message).Select(text => new OrderProblem(kind, value, text)));
            }
            catch (Exception failure) when (VembarException.From(failure, "read", value) is { } error)
            {
                found.Add(new OrderProblem(kind, value, error.Message));
            }
        }
        return [.. found.DistinctBy(p => (p.Kind, p.What, p.Problem.Text))];
    }

    // What is wrong; what has its own error is thrown.
    private static IReadOnlyList<Notice> Check(string kind, string value, IReadOnlyDictionary<string, string> fields)
    {
        switch (kind)
        {
            case "registry":
                RegFile.Parse(InputFile.ReadAllBytes(value), value);
                break;
            case "answers":
                var bytes = Path.GetExtension(value) is ".yaml" or ".yml" ? AnswerProfile.Make(value).ToBytes()
                    : InputFile.ReadAllBytes(value);
                // Which architecture it is for, the image says.
                var wrong = AnswerFile.Parse(bytes, value).Check(null).Where(f => f.IsError).Select(f => f.ToString()).ToList();
                if (wrong.Count > 0)
                    throw VembarException.Input("bad-answer-file", $"'{value}': {wrong[0]}", "",
                        [.. wrong.Skip(1).Select(w => $"'{value}': {w}")]);
                break;
            case "package":
                return Package.Read(value).Problems("ControlSet001");
            case "driver" or "driver-path":
                var damaged = new List<string>();
                FoundInf.Find(value, damaged);
                if (damaged.Count > 0)
                    throw VembarException.Input("bad-driver", damaged[0], "", [.. damaged.Skip(1)]);
                break;
            case "ballast":
                CheckRules(value, WorkOrder.Words(fields.GetValueOrDefault("rules") ?? ""));
                break;
            case "put":
                if (!Path.Exists(value))
                    throw VembarException.Input("no-such-file", $"there is no '{value}'");
                if (WindowsPath.Parse(fields["to"]).Parts.FirstOrDefault(p => !WindowsPath.IsUsableName(p)) is { } bad)
                    throw VembarException.Input("bad-path", $"'{bad}' is not a name that Windows can open");
                break;
            case "remove":
                _ = WindowsPath.Parse(value);
                break;
            case "time-zone" when TimeZoneChange.WindowsName(value) is { } windows:
                throw VembarException.Input("bad-time-zone", $"Windows calls this time zone '{windows}'");
            case "locale" when KnownLocale.Named(value) is null:
                throw VembarException.Input("bad-locale",
                    $"'{value}' is not a locale that is known{EditDistance.Hint(value, KnownLocale.Names)}");
        }
        return [];
    }

    private static void CheckRules(string file, IReadOnlyList<string> names)
    {
        var rules = BallastRule.Read(file).Select(r => r.Name).ToList();
        if (names.FirstOrDefault(n => !rules.Contains(n)) is { } unknown)
            throw VembarException.Input("no-such-rule", $"'{file}' has no rule '{unknown}'{EditDistance.Hint(unknown, rules)}");
    }
}
