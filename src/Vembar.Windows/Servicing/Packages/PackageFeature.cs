namespace Vembar.Windows.Servicing.Packages;

/// <summary>A switch that a package brings.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Title">What people call it.</param>
/// <param name="Parent">The feature that it needs; empty for none.</param>
/// <param name="IsOn">Whether it is on at first.</param>
/// <param name="Part">What it changes.</param>
public sealed record PackageFeature(string Name, string Title, string Parent, bool IsOn, PackagePart Part);
