using Vembar.Images.Records;
using Vembar.Operations.Stations.Contract;

namespace Vembar.Operations.Stations;

/// <summary>How an image and a machine go together.</summary>
/// <param name="Image">The image.</param>
/// <param name="Layout">How the disk is divided.</param>
/// <param name="Drivers">Which driver each device would get; those without one first.</param>
/// <param name="Refusals">What is in the way; empty for nothing.</param>
public sealed record FitResult(ImageRecord Image, string Layout, IReadOnlyList<DeviceDriver> Drivers, IReadOnlyList<Refusal> Refusals);
