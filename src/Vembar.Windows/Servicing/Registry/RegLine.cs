using Vembar.Windows.Registry;

namespace Vembar.Windows.Servicing.Registry;

/// <summary>A change from a .reg file, with its line.</summary>
/// <param name="Edit">The change; its root is the name of the hive as <see cref="ServiceContext.Hive"/> knows it.</param>
/// <param name="Line">Its line, from 1.</param>
public sealed record RegLine(RegistryEdit Edit, int Line);
