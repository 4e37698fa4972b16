namespace Vembar.Station.Hosting;

/// <summary>How machines of a site are switched on that do not answer magic packets: by a program of the organisation's.</summary>
/// <param name="Site">The site; "*" for all others.</param>
/// <param name="Arguments">The program and its arguments, with what stands for the machine: {name}, {address}, {serial}, {uuid},
/// {id}.</param>
/// <param name="Limit">How long it may take.</param>
public sealed record PowerCommand(string Site, IReadOnlyList<string> Arguments, TimeSpan Limit)
{
    /// <summary>The site that stands for all others.</summary>
    public const string AnySite = "*";

    /// <summary>What can stand for a machine.</summary>
    public static IReadOnlyList<string> Words { get; } = ["name", "address", "serial", "uuid", "id"];
}
