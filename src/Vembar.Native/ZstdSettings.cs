namespace Vembar.Native;

/// <summary>How hard to compress: a level, and what of it is set otherwise (0: as the level has it).</summary>
/// <param name="Level">1 (quick) to 19 (dense).</param>
/// <param name="WindowLog">How far back matches reach: a power of two, in bytes.</param>
/// <param name="HashLog">The size of the table of places: a power of two, in entries.</param>
/// <param name="ChainLog">The size of the tree of places: a power of two, in entries.</param>
/// <param name="SearchLog">How many places are tried for each match: a power of two.</param>
/// <param name="Step">For the quick levels: how many bytes to go on where nothing matched, less one.</param>
/// <param name="Workers">How many threads compress one input; 0: the calling one alone. Any number from 1 on gives the same bytes, which
/// differ from those of 0.</param>
public readonly record struct ZstdSettings(int Level, int WindowLog = 0, int HashLog = 0, int ChainLog = 0, int SearchLog = 0,
    int Step = 0, int Workers = 0);
