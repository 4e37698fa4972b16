namespace Vembar.Images.Records;

/// <summary>A driver that was let in although nobody trusted signed it.</summary>
/// <param name="Inf">The name that it was published under, or the folder that it lies in.</param>
/// <param name="OriginalInf">Its INF's own name.</param>
/// <param name="State">unsigned, wrong-hash, bad-signature, expired, untrusted or bad-catalog.</param>
/// <param name="Why">What was found.</param>
public sealed record UnsignedDriver(string Inf, string OriginalInf, string State, string Why);
