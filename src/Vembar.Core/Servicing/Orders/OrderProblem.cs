using Vembar.Core.Archives;
using Vembar.Core.Servicing.Answers;
using Vembar.Core.Servicing.Drivers;
using Vembar.Core.Servicing.Files;
using Vembar.Core.Servicing.Languages;
using Vembar.Core.Servicing.Packages;
using Vembar.Core.Servicing.Registry;
using Vembar.Core.Trees;

namespace Vembar.Core.Servicing.Orders;

/// <summary>Something of an order that no image would take.</summary>
/// <param name="Kind">The kind of change.</param>
/// <param name="What">What it names.</param>
/// <param name="Problem">What is wrong.</param>
public sealed record OrderProblem(string Kind, string What, string Problem);
