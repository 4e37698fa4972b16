using Vembar.Cli.Json;
using Vembar.Images.Records;
using Vembar.Store.Reading;

namespace Vembar.Cli.Commands.List;

internal static class ListCommand
{
    public static VembarCommand Create()
    {
        var archive = SharedOptions.Archive("The archive");
        return new VembarCommand("list", "List the images of an archive", "vembar list desks.vmb", "vembar list desks.vmb --json")
            .With(archive).Does((parse, session) =>
            {
                using var reader = ArchiveReader.Open(parse.GetRequiredValue(archive));
                session.Warn(UncommittedTail(reader));
                session.Result(new ListJson(reader.Path, reader.Header.Id, reader.FileLength, reader.UncommittedTail,
                    [.. reader.Header.Bases.Select(b => new BaseJson(b.Id, b.Name))], reader.Images, reader.LostImages),
                    json => json.ListJson, () => Show(reader, session));
                return ExitCode.Done;
            });
    }

    internal static IEnumerable<string> UncommittedTail(ArchiveReader reader) => reader.IsNewerStateDamaged
        ? [$"a newer state of '{reader.Path}' is damaged; what is listed is state {reader.Sequence}. `vembar verify {reader.Path}` says "
        + $"what can be done"]
        : reader.IsRecordSingle
        ? [$"the end of '{reader.Path}' is missing or was not written; its last state is whole, and the next change completes it"]
        : reader.UncommittedTail == 0 ? [] :
        [$"the last {Text.Number(reader.UncommittedTail)} bytes of '{reader.Path}' belong to no finished state: a run was interrupted, "
        + $"or the file was cut short"];

    private static void Show(ArchiveReader reader, Session session)
    {
        if (reader.Images.Count + reader.LostImages.Count == 0)
            Session.Line($"{reader.Path} holds no images.");
        else
        {
            var table = new Table(">No.", "Name", "Version", "Edition", ">Build", ">Files", ">Size", ">Adds", "Date");
            foreach (var image in reader.Images)
                table.Row($"{image.Number}", image.Name, image.Version, image.Edition, image.Build, Text.Number(image.Files),
                    Text.Size(image.Bytes), Text.Size(image.BytesAdded), Text.Time(image.Created));
            table.Print(session);
        }
        foreach (var lost in reader.LostImages)
            Session.Line($"Image {lost.Number} cannot be read: {lost.Problem}. Heal it with `vembar verify {reader.Path} --repair-from "
                + $"COPY`.");
        foreach (var based in reader.Header.Bases)
            Session.Line($"Based on {Text.Safe(based.Name)} ({based.Id}): what that one holds is not stored here.");
        if (!Console.IsOutputRedirected)
        {
            Session.Line();
            Session.Line($"{reader.Path} is {Text.Size(reader.FileLength)}; its images hold {Text.Size(reader.Images.Sum(i => i.Bytes))}.");
        }
    }
}
