namespace Vembar.Images.Records;

/// <summary>An image whose record is damaged in both copies.</summary>
/// <param name="Number">Its number.</param>
/// <param name="Problem">What is wrong.</param>
public sealed record LostImage(int Number, string Problem);
