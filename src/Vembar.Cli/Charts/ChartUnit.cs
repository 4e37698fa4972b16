namespace Vembar.Cli.Charts;

/// <summary>What the values of a chart are.</summary>
internal enum ChartUnit
{
    Count,
    Bytes,
}
