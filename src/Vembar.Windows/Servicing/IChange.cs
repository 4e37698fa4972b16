namespace Vembar.Windows.Servicing;

/// <summary>A change to an image. It looks first and changes only when all of it can be done.</summary>
public interface IChange
{
    /// <summary>Makes the change in the tree that is edited.</summary>
    /// <returns>One or more outcomes.</returns>
    IEnumerable<ChangeOutcome> Apply(ServiceContext context);
}
