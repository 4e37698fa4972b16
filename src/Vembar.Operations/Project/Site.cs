namespace Vembar.Operations.Project;

/// <summary>A place that keeps copies of images.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Place">The archive there.</param>
/// <param name="Channels">It keeps what these channels point at.</param>
/// <param name="Newest">It keeps so many of the newest versions that are offered.</param>
/// <param name="Names">Of images with these names ('*' and '?' match); empty for all.</param>
public sealed record Site(string Name, string Place, IReadOnlyList<string> Channels, int Newest, IReadOnlyList<string> Names);
