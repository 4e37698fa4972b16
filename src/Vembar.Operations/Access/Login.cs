namespace Vembar.Operations.Access;

/// <summary>Who one is at a place.</summary>
internal sealed record Login(string User, string Secret, bool IsToken);
