using Vembar.Windows.Registry;

namespace Vembar.Windows.Servicing.Drivers;

/// <summary>A service that an INF installs.</summary>
public sealed record DriverService(string Name, string DisplayName, uint Type, uint Start, uint ErrorControl, string Binary, string Group,
    bool IsFunction)
{
    /// <summary>What it is for, as text; may be empty.</summary>
    public string Description { get; init; } = "";

    /// <summary>Services and groups (with '+') that have to be there before it.</summary>
    public IReadOnlyList<string> Dependencies { get; init; } = [];

    /// <summary>Changes to its key.</summary>
    public IReadOnlyList<RegistryEdit> Edits { get; init; } = [];

    /// <summary>Changes to its key in the event log, below <see cref="EventLog"/>.</summary>
    public IReadOnlyList<RegistryEdit> EventEdits { get; init; } = [];

    /// <summary>Log and source in the event log ("System\corstor"); empty for none.</summary>
    public string EventLog { get; init; } = "";
}
