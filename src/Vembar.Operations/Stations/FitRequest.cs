using Vembar.Operations.Sign;
using Vembar.Operations.Stations.Contract;

namespace Vembar.Operations.Stations;

/// <summary>Which image is to go to which machine.</summary>
/// <param name="Image">The image.</param>
/// <param name="Machine">The machine.</param>
/// <param name="Layout">How its disk is divided; empty for what its firmware needs.</param>
/// <param name="SignedBy">Those of whom one has to have signed the image; null for nobody.</param>
public sealed record FitRequest(ImageReference Image, MachineReport Machine, string Layout, ImageTrust? SignedBy);
