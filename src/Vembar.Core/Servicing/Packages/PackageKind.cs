using System.Globalization;
using System.Text.RegularExpressions;
using Vembar.Core.Archives;
using Vembar.Core.Content;
using Vembar.Core.Servicing.FirstStart;
using Vembar.Core.Servicing.Languages;
using Vembar.Core.Servicing.Orders;
using Vembar.Core.Trees;
using Vembar.Core.Windows;
using YamlDotNet.RepresentationModel;

namespace Vembar.Core.Servicing.Packages;

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
