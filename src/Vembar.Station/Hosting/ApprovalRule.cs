namespace Vembar.Station.Hosting;

/// <summary>Which machines are approved without anybody, once they have a name and an image.</summary>
public enum ApprovalRule
{
    /// <summary>None.</summary>
    Never,
    /// <summary>Those of the list.</summary>
    Known,
    /// <summary>All.</summary>
    Always,
}
