using System.CommandLine;
using Vembar.Core.Servicing.Orders;

namespace Vembar.Cli.Commands;

internal static class OrderCommand
{
    public static VembarCommand Create()
    {
        var command = new VembarCommand("order", "Check work orders without an image, and describe their form to editors",
            "vembar order check vembar-demo/orders/reading-room.yaml", "vembar order schema --out work-order.schema.json");
        var file = new Argument<string>("FILE") { Description = "The work order" };
        var trust = SharedOptions.Trust();
        var variables = new Option<string[]>("--set") { Description = "Give a variable of it another text; may be given several times", HelpName = "NAME=TEXT", DefaultValueFactory = _ => [] };
        command.Subcommands.Add(new VembarCommand("check", "Check a work order: its form, its variables, and what it names beside it", "vembar order check vembar-demo/orders/reading-room.yaml --set branch=Staithe")
            .With(file, trust, variables).Does((parse, session) =>
            {
                var path = parse.GetRequiredValue(file);
                var order = WorkOrder.Read(path, new OrderOptions { Trust = SharedOptions.TrustPaths(parse, trust), Variables = SharedOptions.Pairs(parse.GetRequiredValue(variables), "--set") });
                var missing = order.Files.Where(f => !Path.Exists(f.Path)).ToList();
                session.Result(new OrderJson(path, missing.Count == 0, order.Title, order.Origin.Hash, order.Origin.Variables ?? new Dictionary<string, string>(), [.. order.Files.Select(f => new OrderFileJson(f.Kind, f.Path, Path.Exists(f.Path)))]), json => json.OrderJson, () =>
                {
                    foreach (var (kind, lost) in missing)
                        Session.Line($"{kind}: there is no '{lost}'");
                    Session.Line($"{path} {(order.Title.Length > 0 ? $"(\"{order.Title}\") " : "")}{(missing.Count == 0 ? "can be used" : "names what is not there")}: {Text.Count(order.Count, "change")}, {Text.Count(order.Files.Count, "file")} beside it{(order.Origin.Variables is { } set ? $"; {string.Join(", ", set.Select(v => $"{v.Key} is '{v.Value}'"))}" : "")}.");
                    if (missing.Count == 0)
                        Session.Line("What it would do to an image, 'vembar service IMAGE --order FILE --plan' tells.");
                });
                return missing.Count == 0 ? ExitCode.Done : ExitCode.NotInOrder;
            }));
        var to = new Option<string?>("--out") { Description = "Write it there; otherwise it is printed", HelpName = "FILE" };
        command.Subcommands.Add(new VembarCommand("schema", "The JSON Schema of work orders: editors complete and check with it", "vembar order schema --out work-order.schema.json")
            .With(to).Does((parse, session) =>
            {
                var text = OrderSchema.Text();
                OutputFile.At(parse.GetValue(to), session, OrderSchema.Title)?.Write(text);
                session.Result(new OrderSchemaJson(parse.GetValue(to), System.Text.Json.JsonDocument.Parse(text).RootElement), json => json.OrderSchemaJson, () =>
                {
                    if (parse.GetValue(to) is { } written)
                        Session.Line($"{written} is written. In an order, the line '# yaml-language-server: $schema={written}' lets editors find it.");
                    else
                        Console.Out.Write(text);
                });
                return ExitCode.Done;
            }));
        return command;
    }
}
