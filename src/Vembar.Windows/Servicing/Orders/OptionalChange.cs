namespace Vembar.Windows.Servicing.Orders;

/// <summary>A change of an order that the others need not wait for: when it is refused and --keep-going is given, they are made.</summary>
/// <param name="change">The change.</param>
public sealed class OptionalChange(IChange change) : IChange
{
    /// <inheritdoc/>
    public IEnumerable<ChangeOutcome> Apply(ServiceContext context) => change.Apply(context).Select(o => o with { IsOptional = true });
}
