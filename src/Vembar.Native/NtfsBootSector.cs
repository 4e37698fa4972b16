using System.Buffers.Binary;

namespace Vembar.Native;

/// <summary>What the first sector of an NTFS volume says of it.</summary>
/// <param name="ClusterSize">Bytes of a cluster.</param>
/// <param name="Clusters">The volume's length in clusters.</param>
/// <remarks>Source: the NTFS documentation of the Linux-NTFS project, "$Boot": the parameter block at byte 11.</remarks>
public readonly record struct NtfsBootSector(int ClusterSize, long Clusters)
{
    /// <summary>How many bytes of the sector are looked at.</summary>
    public const int Length = 64;

    /// <summary>Reads it.</summary>
    /// <param name="bytes">The volume's first <see cref="Length"/> bytes.</param>
    /// <returns>Null when it is none.</returns>
    public static NtfsBootSector? TryRead(ReadOnlySpan<byte> bytes)
    {
        const int SectorSizeAt = 11, ClusterSectorsAt = 13, SectorsAt = 40, LargestSector = 4096, MostSectors = 128;
        if (bytes.Length < Length)
            return null;
        int sector = BinaryPrimitives.ReadUInt16LittleEndian(bytes[SectorSizeAt..]);
        // Above 128 it is a power of two, counted down from 256.
        int told = bytes[ClusterSectorsAt];
        var sectors = told <= MostSectors ? told : 1 << Math.Min(256 - told, 12);
        return sector is >= 256 and <= LargestSector && int.IsPow2(sector) && sectors > 0 && int.IsPow2(sectors)
            ? new NtfsBootSector(sector * sectors, BinaryPrimitives.ReadInt64LittleEndian(bytes[SectorsAt..]) / sectors) : null;
    }

    /// <summary>Why what the library has of the volume cannot be what this sector says; null when it can.</summary>
    /// <param name="majorVersion">NTFS' version.</param>
    /// <param name="clusterSize">Bytes of a cluster.</param>
    /// <param name="clusters">The volume's length in clusters.</param>
    public string? Contradiction(byte majorVersion, int clusterSize, long clusters) =>
        majorVersion is < 1 or > 3 ? $"NTFS of version {majorVersion}"
        : clusterSize != ClusterSize ? $"clusters of {clusterSize} bytes where the volume has {ClusterSize}"
        : clusters != Clusters ? $"{clusters} clusters where the volume has {Clusters}" : null;
}
