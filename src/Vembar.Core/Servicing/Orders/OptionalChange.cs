using System.Text.RegularExpressions;
using Vembar.Core.Archives;
using Vembar.Core.Content;
using Vembar.Core.Servicing.Answers;
using Vembar.Core.Servicing.Drivers;
using Vembar.Core.Servicing.Files;
using Vembar.Core.Servicing.FirstStart;
using Vembar.Core.Servicing.Languages;
using Vembar.Core.Servicing.Mending;
using Vembar.Core.Servicing.Packages;
using Vembar.Core.Servicing.Registry;
using YamlDotNet.RepresentationModel;

namespace Vembar.Core.Servicing.Orders;

/// <summary>A change of an order that the others need not wait for: when it is refused and --keep-going is given, they are made.</summary>
/// <param name="change">The change.</param>
public sealed class OptionalChange(IChange change) : IChange
{
    /// <inheritdoc/>
    public IEnumerable<ChangeOutcome> Apply(ServiceContext context) => change.Apply(context).Select(o => o with { IsOptional = true });
}
