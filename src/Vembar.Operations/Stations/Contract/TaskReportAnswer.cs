namespace Vembar.Operations.Stations.Contract;

/// <summary>What a machine is told when it reports.</summary>
/// <param name="CarryOn">Whether it goes on; not when somebody stopped it, or its task is another's by now.</param>
public sealed record TaskReportAnswer(bool CarryOn);
