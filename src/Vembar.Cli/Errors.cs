using System.Text.Json;
using Vembar.Cli.Json;
using Vembar.Common;

namespace Vembar.Cli;

/// <summary>How errors are told.</summary>
internal static class Errors
{
    public static void Tell(VembarException error, bool json, bool verbose)
    {
        if (json)
        {
            var document = new ErrorJson(Body(error));
            try
            {
                Console.Out.WriteLine(JsonSerializer.Serialize(document, CliJson.Default.ErrorJson));
                return;
            }
            catch (VembarException)
            {
                // Then it is said where it can be.
            }
        }
        void Say(string text) => Terminal.Write(Console.Error, Console.IsErrorRedirected, text);
        Say($"vembar: {AdviceText.MessageOf(error)}");
        foreach (var detail in AdviceText.DetailsOf(error))
            Say($"  {detail}");
        if (AdviceText.Of(error) is { Length: > 0 } advice)
            Say($"  {advice}");
        if (verbose)
            Console.Error.WriteLine(error.ToString());
    }

    /// <summary>An error as JSON tells it.</summary>
    public static ErrorBody Body(VembarException error) =>
        new(error.Code, AdviceText.MessageOf(error), AdviceText.Of(error), AdviceText.DetailsOf(error));
}
