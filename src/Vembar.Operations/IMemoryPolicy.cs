namespace Vembar.Operations;

/// <summary>What a program does about memory around the phases of work on very many files; a server does nothing.</summary>
public interface IMemoryPolicy
{
    /// <summary>A phase begins of which most that is made stays, as when a tree is read.</summary>
    /// <returns>Disposed at the phase's end.</returns>
    IDisposable BeginKeeping();

    /// <summary>A phase ended that left much behind.</summary>
    /// <param name="files">How many files it worked on.</param>
    void EndPhase(long files);
}
