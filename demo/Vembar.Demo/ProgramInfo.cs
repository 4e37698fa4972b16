namespace Vembar.Demo;

/// <summary>What a program file says of itself.</summary>
internal sealed record ProgramInfo(string FileName, string Description, string Product, string Company, Version Version);
