namespace Vembar.Volumes.Targets;

/// <summary>What a partition of a layout is for.</summary>
public enum PartitionRole
{
    /// <summary>The EFI system partition: FAT32, with the boot files.</summary>
    Efi,
    /// <summary>Room that Windows keeps for itself: not formatted.</summary>
    Reserved,
    /// <summary>Windows: NTFS, where the image goes.</summary>
    Windows,
    /// <summary>Recovery: NTFS.</summary>
    Recovery,
    /// <summary>The partition that BIOS starts from: NTFS, with the boot files.</summary>
    System,
    /// <summary>Anything else: NTFS, empty.</summary>
    Data,
}
