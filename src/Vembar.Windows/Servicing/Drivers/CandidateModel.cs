namespace Vembar.Windows.Servicing.Drivers;

/// <summary>A device that a candidate serves.</summary>
/// <param name="Description">What it calls the device.</param>
/// <param name="Ids">Hardware id first, then compatible ids.</param>
/// <param name="FeatureScore">How well it serves it, 0 (best) to 255.</param>
/// <param name="Components">Ids of components that come with the device.</param>
public sealed record CandidateModel(string Description, IReadOnlyList<string> Ids, int FeatureScore, IReadOnlyList<string> Components);
