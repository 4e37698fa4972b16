namespace Vembar.Station.Interface;

/// <summary>Somebody signs in to the web page.</summary>
/// <param name="Token">The token.</param>
internal sealed record SignIn(string? Token);
