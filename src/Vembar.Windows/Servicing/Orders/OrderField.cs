namespace Vembar.Windows.Servicing.Orders;

/// <summary>A field beside a change's own.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Form">What it may hold.</param>
/// <param name="Meaning">What it says, for the schema.</param>
/// <param name="Needed">Whether it must be there.</param>
internal sealed record OrderField(string Name, OrderForm Form, string Meaning, bool Needed = false)
{
    /// <summary>The words that it may hold; empty for any.</summary>
    public IReadOnlyList<string> Choices { get; init; } = [];
}
