namespace Vembar.Demo;

/// <summary>A program that is installed on a reference.</summary>
internal sealed record DemoProgram(string Key, string Name, string Version, string Publisher, int SizeInKib);
