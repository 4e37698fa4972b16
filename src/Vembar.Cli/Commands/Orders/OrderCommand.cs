using System.CommandLine;
using Vembar.Common;
using Vembar.Operations;
using Vembar.Operations.Show;
using Vembar.Windows.Servicing.Orders;

namespace Vembar.Cli.Commands.Orders;

internal static class OrderCommand
{
    public static VembarCommand Create()
    {
        var command = new VembarCommand("order", "Start work orders, check them without an image, and describe their form to editors",
            "vembar order init vembar-demo/drivers vembar-demo/packages --out october.yaml",
            "vembar order check vembar-demo/orders/reading-room.yaml", "vembar order schema --out work-order.schema.json");
        var file = new Argument<string>("FILE") { Description = "The work order; '-' reads standard input" };
        var trust = SharedOptions.Trust();
        var variables = new Option<string[]>("--set")
        {
            Description = "Give a variable of it another text; may be given several times",
            HelpName = "NAME=TEXT",
            DefaultValueFactory = _ => [],
        };
        command.Subcommands.Add(new VembarCommand("check", "Check a work order: its form, its variables, paths and names, and what the "
            + "files beside it hold", "vembar order check vembar-demo/orders/reading-room.yaml --set language=en-GB")
            .With(file, trust, variables).Does((parse, session) =>
            {
                var path = parse.GetRequiredValue(file);
                var order = WorkOrder.Read(path, new OrderOptions
                {
                    Trust = SharedOptions.TrustPaths(parse, trust, session),
                    Variables = SharedOptions.Pairs(parse.GetRequiredValue(variables), "--set"),
                });
                var problems = OrderCheck.Run(order);
                var ok = problems.Count == 0;
                session.Result(new OrderJson(path, ok, order.Title, order.Origin.Hash,
                    order.Origin.Variables ?? new Dictionary<string, string>(),
                    [.. order.Files.Select(f => new OrderFileJson(f.Kind, f.Path, Path.Exists(f.Path)))],
                    [.. problems.Select(p => new OrderProblemJson(p.Kind, p.What, AdviceText.Of(p.Problem)))]), json => json.OrderJson,
                    () =>
                {
                    foreach (var problem in problems)
                    {
                        var text = AdviceText.Of(problem.Problem);
                        Session.Line(text.Contains(problem.What, StringComparison.Ordinal)
                            ? $"{problem.Kind}: {text}" : $"{problem.Kind} '{problem.What}': {text}");
                    }
                    var title = order.Title.Length > 0 ? $"(\"{order.Title}\") " : "";
                    var verdict = ok ? "can be used" : $"cannot be used, {Text.Count(problems.Count, "problem")}";
                    var set = string.Join(", ",
                        (order.Origin.Variables ?? new Dictionary<string, string>()).Select(v => $"{v.Key} is '{v.Value}'"));
                    var variables = set.Length > 0 ? $"; {set}" : "";
                    Session.Line($"{path} {title}{verdict}: {Text.Count(order.Count, "change")}, "
                        + $"{Text.Count(order.Files.Count, "file")} beside it{variables}.");
                    if (ok)
                        Session.Line("What it would do to an image, 'vembar service IMAGE --order FILE --plan' tells.");
                });
                return ok ? ExitCode.Done : ExitCode.NotInOrder;
            }));
        var to = new Option<string?>("--out") { Description = "Write it there; otherwise it is printed", HelpName = "FILE" };
        var from = new Argument<string[]>("FROM")
        {
            Description = "An image, whose history is followed; or folders that hold drivers, packages, answer files and the like",
            Arity = ArgumentArity.OneOrMore,
        };
        command.Subcommands.Add(new VembarCommand("init", "Write a work order to start from: of what folders hold, or of what was done "
            + "to an image",
            "vembar order init vembar-demo/drivers vembar-demo/packages vembar-demo/trust --out october.yaml",
            "vembar order init desks.vmb#\"Lending desk, serviced\" --out again.yaml")
            .With(from, to, SharedOptions.Base)
                .Does((parse, session) => InitAsync(parse.GetRequiredValue(from), parse.GetValue(to),
                    parse.GetRequiredValue(SharedOptions.Base), session)));
        command.Subcommands.Add(new VembarCommand("schema", "The JSON Schema of work orders: editors complete and check with it",
            "vembar order schema --out work-order.schema.json")
            .With(to).Does((parse, session) =>
            {
                var text = OrderSchema.Text();
                OutputFile.At(parse.GetValue(to), session, OrderSchema.Title)?.Write(text);
                session.TextResult(new OrderSchemaJson(parse.GetValue(to), System.Text.Json.JsonDocument.Parse(text).RootElement),
                    json => json.OrderSchemaJson, parse.GetValue(to), text, written => Session.Line($"{written} is written. In an order, "
                        + $"the line '# yaml-language-server: $schema={written}' lets editors find it."));
                return ExitCode.Done;
            }));
        return command;
    }

    private static async Task<int> InitAsync(string[] from, string? to, string[] bases, Session session)
    {
        const string Mark = "# A work order; its form:";
        var images = from.Where(ImageReference.IsImage).ToList();
        if (images.Count > 0 && from.Length > 1)
            throw new VembarException(ErrorKind.Usage, "image-or-folders", "an image and something else were named",
                "Name one image, or folders.");
        var output = OutputFile.At(to, session, Mark);
        var folder = to is null ? Directory.GetCurrentDirectory() : Path.GetDirectoryName(Path.GetFullPath(to))!;
        var draft = images is [var image]
            ? OrderDraft.OfImage(await session.Do(new RecordHandler(session.Host), ImageReference.Parse(image, bases)), folder)
            : OrderDraft.OfFolders(from, folder, session.Cancellation);
        output?.Write(draft.Text);
        session.TextResult(new OrderDraftJson(to, draft.Changes, draft.Remarks, draft.Text), json => json.OrderDraftJson, to, draft.Text,
            written =>
        {
            var remarks = draft.Remarks > 0 ? $", and {draft.Remarks} more as remarks" : "";
            Session.Line($"{written} lists {Text.Count(draft.Changes, "change")}{remarks}. "
                + $"Read it through, then: vembar order check {written}");
        });
        return ExitCode.Done;
    }
}
