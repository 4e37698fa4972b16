using Vembar.Images.Records;

namespace Vembar.Cli;

internal sealed record FeaturesJson(ImageRecord Image, IReadOnlyList<FeatureJson> Features);
