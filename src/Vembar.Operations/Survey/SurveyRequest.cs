using Vembar.Volumes.Disks;

namespace Vembar.Operations.Survey;

/// <summary>What to look at.</summary>
/// <param name="Source">A folder, a disk image or a block device.</param>
/// <param name="Reading">How a disk is opened.</param>
public sealed record SurveyRequest(string Source, DiskReading? Reading = null);
