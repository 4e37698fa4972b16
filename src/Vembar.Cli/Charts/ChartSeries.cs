namespace Vembar.Cli.Charts;

/// <summary>Values of one kind, one for each label of a chart.</summary>
/// <param name="Name">What they are; empty where there is nothing else.</param>
/// <param name="Values">The values.</param>
/// <param name="Colour">Which of the page's colours they have, from 1 on; 0 for the next one.</param>
internal sealed record ChartSeries(string Name, IReadOnlyList<long> Values, int Colour = 0);
