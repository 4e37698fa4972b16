using Vembar.Operations;

namespace Vembar.Station.Archives;

/// <summary>Nobody looks how far it is.</summary>
internal sealed class Nothing : IProgress<OperationProgress>
{
    public static Nothing Instance { get; } = new();

    public void Report(OperationProgress value)
    {
    }
}
