using System.Globalization;
using Vembar.Cli.Commands.Places;
using Vembar.Common;
using Vembar.Operations.Stations.Contract;
using Vembar.Operations.Stations.Joining;

namespace Vembar.Cli.Commands.Station;

/// <summary>Asks at the machine's own console.</summary>
internal sealed class ConsoleAttendant(Session session) : IAttendant
{
    private static string? Ask(string question)
    {
        Console.Error.Write(Text.Safe(question));
        return Console.In.ReadLine()?.Trim();
    }

    private static void Say(string text = "") => Console.Error.WriteLine(Text.Safe(text));

    /// <inheritdoc/>
    public AttendRequest? SignIn()
    {
        session.Progress.Clear();
        Say();
        if (Ask("Who are you (the name of your token; nothing for a whole token)? ") is not { } name)
            return null;
        try
        {
            return new AttendRequest(name, SecretPrompt.AskSecret(name.Length > 0 ? "PIN: " : "Token: "));
        }
        catch (VembarException problem) when (problem.Code is "no-secret")
        {
            return null;
        }
    }

    /// <inheritdoc/>
    public Approval? Choose(AttendAnswer answer, MachineReport machine)
    {
        Say($"Signed in as {answer.Caller.Name}.");
        var choices = answer.Images.SelectMany(i => (string[])[$"{i.Archive}#{i.Number}"]).ToList();
        for (var at = 0; at < answer.Images.Count; at++)
        {
            var image = answer.Images[at];
            var channels = image.Channels.Count > 0 ? $"  [{string.Join(", ", image.Channels)}]" : "";
            Say(string.Create(CultureInfo.InvariantCulture, $"  {at + 1,3}  {image.Name} {image.Version}{channels}"));
        }
        if (choices.Count == 0)
        {
            Say("There is no image to choose from.");
            return null;
        }
        string? chosen = null;
        while (chosen is null)
        {
            if (Ask(answer.Assignment.Image.Length > 0 ? $"Image (nothing for {answer.Assignment.Image}): " : "Image: ") is not { } said)
                return null;
            chosen = said.Length == 0 && answer.Assignment.Image.Length > 0 ? answer.Assignment.Image
                : int.TryParse(said, NumberStyles.None, CultureInfo.InvariantCulture, out var number) && number >= 1
                && number <= choices.Count
                ? choices[number - 1] : null;
        }
        var suggested = answer.Assignment.Name;
        if (Ask(suggested.Length > 0 ? $"Computer name (nothing for {suggested}): " : "Computer name: ") is not { } name)
            return null;
        var disk = machine.Disks[0];
        Say($"{disk.Path} {disk.Model} ({Text.Size(disk.Bytes)}) holds:");
        foreach (var line in disk.Contents)
            Say($"  {line}");
        if (!string.Equals(Ask("All of it will be lost. To go on, type yes: "), "yes", StringComparison.OrdinalIgnoreCase))
            return null;
        return new Approval { Image = chosen, Name = name.Length > 0 ? name : null };
    }

    /// <inheritdoc/>
    public void Refused(VembarException problem)
    {
        Say($"{problem.Message}.");
        foreach (var detail in problem.Details)
            Say($"  {detail}");
        if (AdviceText.Of(problem) is { Length: > 0 } advice)
            Say($"  {advice}");
    }
}
