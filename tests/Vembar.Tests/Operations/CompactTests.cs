using Vembar.Common;
using Vembar.Operations;
using Vembar.Operations.Drop;
using Xunit;

namespace Vembar.Tests.Operations;

/// <summary>Compacting an archive that others write to while it is asked whether that may be.</summary>
public sealed class CompactTests : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    private string Prepared()
    {
        var archive = _folder.At("a.vmb");
        for (var i = 0; i < 3; i++)
        {
            _folder.Write("src/file", $"content {i}");
            Do.Capture(_folder.At("src"), archive, $"image {i}");
        }
        return archive;
    }

    private static CompactResult Compact(string archive, Func<CompactLoss, bool> ask) => new CompactHandler(OperationHost.Default)
        .HandleAsync(new CompactRequest(archive, null, ask, TimeSpan.FromSeconds(10)), NoProgress.Instance, CancellationToken.None)
        .GetAwaiter().GetResult();

    [Fact]
    public void WhatOthersAddMeanwhileStaysAndNeedsNoSecondQuestion()
    {
        var archive = Prepared();
        var asked = 0;
        var done = Compact(archive, _ =>
        {
            asked++;
            _folder.Write("src/file", "added meanwhile");
            Do.Capture(_folder.At("src"), archive, $"meanwhile {asked}");
            return true;
        });
        Assert.Equal((1, 4), (asked, done.Images));
        Assert.True(Do.Verify(archive).Ok);
        Assert.Equal("meanwhile 1", Do.Record(new ImageReference(archive, "last")).Name);
    }

    [Fact]
    public void WhereMoreWouldGoItIsAskedAgain()
    {
        var archive = Prepared();
        var asked = new List<CompactLoss>();
        Compact(archive, loss =>
        {
            asked.Add(loss);
            if (asked.Count == 1)
                Do.Drop(new ImageReference(archive, "2"));
            return true;
        });
        Assert.Equal(2, asked.Count);
        Assert.Empty(asked[0].Gone);
        Assert.Contains("image 1", Assert.Single(asked[1].Gone), StringComparison.Ordinal);
        Assert.Equal("not-confirmed", Assert.Throws<VembarException>(() => Compact(Prepared(), _ => false)).Code);
    }
}
