namespace Vembar.Operations.Stations.Contract;

/// <summary>A token that was made. The secrets are told this once.</summary>
/// <param name="Token">What it is.</param>
/// <param name="Secret">The token itself.</param>
/// <param name="Pin">Its PIN; null for none.</param>
public sealed record NewToken(TokenInfo Token, string Secret, string? Pin);
