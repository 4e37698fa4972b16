using Vembar.Common;
using Vembar.Images.Editing;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Windows.Servicing.Drivers;

namespace Vembar.Windows.Inspection;

/// <summary>How an install can start, read from its own files.</summary>
public static class FirmwareFacts
{
    // A boot loader has some MB.
    private const long LongestFile = 64 << 20;

    private static WindowsPath Below(string windowsFolder, string path) =>
        WindowsPath.Root.Child(windowsFolder).Append(WindowsPath.Parse(path));

    private static readonly string[] s_uefi = ["Boot/EFI/bootmgfw.efi", "System32/winload.efi"];
    private static readonly string[] s_bios = ["Boot/PCAT/bootmgr", "System32/winload.exe"];

    /// <summary>Reads how an install can start.</summary>
    /// <param name="files">The install.</param>
    /// <param name="windowsFolder">The name of its Windows folder.</param>
    /// <param name="architecture">x64, arm64 or x86.</param>
    public static ImageFirmware Read(IReadOnlyTree files, string windowsFolder, string architecture) => new()
    {
        Uefi = StartsByUefi(files, windowsFolder),
        Bios = StartsByBios(files, windowsFolder, architecture),
        BootFiles = [.. s_uefi.Select(f => Look(files, Below(windowsFolder, f))).OfType<BootFile>()],
    };

    /// <summary>Whether there is a boot manager for UEFI.</summary>
    public static bool StartsByUefi(IReadOnlyTree files, string windowsFolder) => files.Exists(Below(windowsFolder, s_uefi[0]));

    /// <summary>Whether there is a boot manager for BIOS, and the architecture has one.</summary>
    public static bool StartsByBios(IReadOnlyTree files, string windowsFolder, string architecture) =>
        architecture != "arm64" && files.Exists(Below(windowsFolder, s_bios[0]));

    /// <summary>Whether an edit touched what decides how the install can start.</summary>
    public static bool IsChanged(TreeEditor files, IReadOnlyTree before, string windowsFolder) => s_uefi.Concat(s_bios)
        .Select(f => Below(windowsFolder, f))
        .Any(p => files.Find(p)?.Entry.New is not null || files.Exists(p) != before.Exists(p));

    private static BootFile? Look(IReadOnlyTree files, WindowsPath path)
    {
        try
        {
            if (files.ReadFile(path, LongestFile) is not { } program)
                return null;
            var signature = ProgramSignature.Of(program);
            return new BootFile(path.ToString(), Word(signature.State), signature.Signer);
        }
        catch (VembarException problem) when (problem.Kind is ErrorKind.Input or ErrorKind.Damaged or ErrorKind.Environment)
        {
            // It cannot be read: whoever needs it is told so.
            return null;
        }
    }

    private static string Word(SignatureState state) => state switch
    {
        SignatureState.Signed => BootFile.Signed,
        SignatureState.Unsigned => "unsigned",
        SignatureState.WrongHash => "wrong-hash",
        _ => "bad-signature",
    };
}
