namespace Vembar.Operations.Stations.Contract;

/// <summary>What became of a list of machines.</summary>
/// <param name="Added">Machines that were not known.</param>
/// <param name="Changed">Machines that were known and are to become something else now.</param>
/// <param name="Unchanged">Machines that were known as they are in the list.</param>
public sealed record ImportAnswer(int Added, int Changed, int Unchanged);
