namespace Vembar.Windows.Servicing.Orders;

/// <summary>What a field of a change may hold.</summary>
internal enum OrderForm
{
    /// <summary>Any text.</summary>
    Text,
    /// <summary>A path outside of the image, relative to the order.</summary>
    File,
    /// <summary>yes or no.</summary>
    YesNo,
    /// <summary>on or off.</summary>
    OnOff,
    /// <summary>Exit codes: one, several with commas, or a list.</summary>
    Codes,
    /// <summary>Words: one, several with blanks or commas, or a list.</summary>
    Words,
}
