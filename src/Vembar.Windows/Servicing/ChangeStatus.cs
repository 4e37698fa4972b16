namespace Vembar.Windows.Servicing;

/// <summary>How a change ended.</summary>
public enum ChangeStatus
{
    /// <summary>It was made.</summary>
    Done,
    /// <summary>The image is so already.</summary>
    Already,
    /// <summary>It does not concern this image, or was held back.</summary>
    Skipped,
    /// <summary>It must not or cannot be made.</summary>
    Refused,
}
