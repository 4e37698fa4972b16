namespace Vembar.Operations.Sites;

/// <summary>One thing that is done to a site.</summary>
/// <param name="What">copy, replace, mark, drop, or keep for what is left although it need not be there.</param>
/// <param name="Image">Name and version.</param>
/// <param name="Done">Whether it was done; false in a plan, and for what was kept.</param>
/// <param name="Bytes">By how much the site's archive grew.</param>
/// <param name="Why">Why it was kept, or what is marked; empty for nothing to say.</param>
public sealed record SyncStep(string What, string Image, bool Done, long Bytes, string Why);
