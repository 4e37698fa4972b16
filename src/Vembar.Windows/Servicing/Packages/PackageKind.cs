namespace Vembar.Windows.Servicing.Packages;

/// <summary>What a package is.</summary>
public enum PackageKind
{
    /// <summary>A newer version of something that is there.</summary>
    Update,
    /// <summary>Things that can be switched on and off.</summary>
    Extension,
    /// <summary>A display language.</summary>
    Translation,
    /// <summary>A program.</summary>
    Application,
    /// <summary>Settings of the house.</summary>
    Settings,
}
