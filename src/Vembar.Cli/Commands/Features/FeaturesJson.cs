using Vembar.Cli.Json;
using Vembar.Images.Records;

namespace Vembar.Cli.Commands.Features;

internal sealed record FeaturesJson(ImageRecord Image, IReadOnlyList<FeatureJson> Features);
