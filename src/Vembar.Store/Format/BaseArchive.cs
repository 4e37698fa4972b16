namespace Vembar.Store.Format;

/// <summary>An archive that another one is based on.</summary>
/// <param name="Id">Its id.</param>
/// <param name="Name">The file name that it had; where to look first.</param>
public sealed record BaseArchive(Guid Id, string Name);
