namespace Vembar.Operations.Survey;

/// <summary>How a disk is divided.</summary>
/// <param name="Scheme">"gpt", "mbr" or "none".</param>
/// <param name="Format">"raw", "vhd", "vhdx", "qcow2" or "vmdk".</param>
/// <param name="Bytes">Its length.</param>
/// <param name="SectorSize">Bytes of a sector.</param>
public sealed record SurveyedDisk(string Scheme, string Format, long Bytes, int SectorSize);
