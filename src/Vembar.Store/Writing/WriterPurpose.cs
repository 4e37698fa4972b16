namespace Vembar.Store.Writing;

/// <summary>What an archive is opened for writing for.</summary>
internal enum WriterPurpose
{
    /// <summary>A change: the archive must be sound as far as it is looked at.</summary>
    Change,
    /// <summary>Going back to an earlier state: the present list of images may be damaged.</summary>
    Rewind,
    /// <summary>Healing: anything may be damaged.</summary>
    Mend,
    /// <summary>Giving up a newer state that is damaged.</summary>
    GiveUpTail,
}
