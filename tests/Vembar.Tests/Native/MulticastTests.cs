using System.Net;
using Vembar.Native.Multicast;
using Xunit;

namespace Vembar.Tests;

/// <summary>Pieces that are sent to many.</summary>
public sealed class MulticastTests
{
    private const int Port = 6217;

    // Each loses datagrams of its own, and asks for them again or mends them.
    [Theory]
    [InlineData(0)]
    [InlineData(1)]
    [InlineData(10)]
    public async Task AllHaveAllWhateverIsLost(double loss)
    {
        Assert.SkipUnless(MulticastSession.IsThere, "libnorm is not installed");
        const int Receivers = 3, Pieces = 20, Length = 100_000;
        var sent = Enumerable.Range(0, Pieces).Select(n =>
        {
            var bytes = new byte[Length + n];
            new Random(n).NextBytes(bytes);
            return bytes;
        }).ToList();
        var group = new MulticastGroup(IPAddress.Parse("239.213.80.79"), Port, "lo", IPAddress.Loopback);
        using var missing = new CountdownEvent(Receivers * Pieces);
        var wrong = 0;
        var receivers = Enumerable.Range(0, Receivers).Select(_ =>
        {
            var seen = new bool[Pieces];
            return new MulticastReceiver(group, (number, bytes, from) =>
            {
                if (!bytes.SequenceEqual(sent[number]) || !IPAddress.Loopback.Equals(from) || seen[number])
                    Interlocked.Increment(ref wrong);
                else
                    missing.Signal();
                seen[number] = true;
            }, loss);
        }).ToList();
        try
        {
            var gone = new List<int>();
            using var sender = new MulticastSender(group, 100e6, 1, Receivers, gone.Add);
            for (var number = 0; number < Pieces; number++)
                await sender.SendAsync(sent[number], number, CancellationToken.None);
            Assert.True(missing.Wait(TimeSpan.FromMinutes(2)), $"{missing.CurrentCount} pieces did not come");
            await sender.FlushAsync(TimeSpan.FromMinutes(1), CancellationToken.None);
            Assert.Equal(0, wrong);
            Assert.Equal(Enumerable.Range(0, Pieces), gone);
        }
        finally
        {
            foreach (var receiver in receivers)
                receiver.Dispose();
        }
    }
}
