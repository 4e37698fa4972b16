namespace Vembar.Store.Reading;

/// <summary>What stands behind the last valid state of an archive.</summary>
internal enum TailKind
{
    /// <summary>Nothing.</summary>
    None,
    /// <summary>The remains of a run that was interrupted before its state was made: nobody was told that it is done.</summary>
    Interrupted,
    /// <summary>A state that was made and is damaged, or was cut off: whoever writes over it loses it.</summary>
    Damaged,
}
