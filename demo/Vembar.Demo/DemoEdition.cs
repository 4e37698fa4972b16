namespace Vembar.Demo;

/// <summary>One of the reference installs.</summary>
internal sealed record DemoEdition(string Folder, string Title, string ComputerName, IReadOnlyList<string> Languages,
    IReadOnlyList<DemoProgram> Programs);
