namespace Vembar.Store.Places;

/// <summary>A file of which others see nothing until it is published: what is written lies here first.</summary>
public interface IPublishedFile
{
    /// <summary>Makes what was written the state that others see.</summary>
    /// <param name="state">What is published.</param>
    /// <exception cref="Common.VembarException">It cannot be; others see what they saw before.</exception>
    void Publish(PublishedState state);

    /// <summary>Makes another file the whole of what others see, instead of what was there.</summary>
    /// <param name="file">The file, from its first byte on.</param>
    /// <param name="state">What is published.</param>
    /// <exception cref="Common.VembarException">It cannot be; others see what they saw before.</exception>
    void Replace(IByteSource file, PublishedState state);

    /// <summary>What an earlier run wrote here and could not publish, to be used again; null for nothing.</summary>
    IByteSource? Unpublished { get; }
}
