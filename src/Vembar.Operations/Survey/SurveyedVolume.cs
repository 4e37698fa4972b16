using Vembar.Operations.Files;
using Vembar.Windows.Install;

namespace Vembar.Operations.Survey;

/// <summary>A volume of a source.</summary>
/// <param name="Number">What --volume takes.</param>
/// <param name="Start">Its first byte on the disk.</param>
/// <param name="Length">Its length in bytes; for a folder what its files hold.</param>
/// <param name="FileSystem">"ntfs", "fat32" and so on; "folder" for a folder of Linux.</param>
/// <param name="Label">Its label.</param>
/// <param name="Used">Bytes in use; null where that is not known.</param>
/// <param name="Role">"Windows", "EFI system", "boot files", "reserved", "recovery", "data" or empty.</param>
/// <param name="Problem">Why it cannot be read; empty when it can.</param>
/// <param name="Windows">The install; null when there is none.</param>
/// <param name="Programs">How many programs it has.</param>
/// <param name="Take">What a capture would take; null where it is no source.</param>
public sealed record SurveyedVolume(
    int Number, long Start, long Length, string FileSystem, string Label, long? Used, string Role, string Problem, WindowsInstall? Windows,
    int Programs, WouldTake? Take);
