using Vembar.Common;

namespace Vembar.Windows.Servicing.Orders;

/// <summary>Something of an order that no image would take.</summary>
/// <param name="Kind">The kind of change.</param>
/// <param name="What">What it names.</param>
/// <param name="Problem">What is wrong.</param>
public sealed record OrderProblem(string Kind, string What, Notice Problem);
