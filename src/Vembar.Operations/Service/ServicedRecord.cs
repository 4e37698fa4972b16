using Vembar.Images.Editing;
using Vembar.Images.Nodes;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Store.Hashing;
using Vembar.Store.Writing;
using Vembar.Windows.Inspection;
using Vembar.Windows.Install;

namespace Vembar.Operations.Service;

/// <summary>The record of an image that was changed.</summary>
internal static class ServicedRecord
{
    /// <summary>Stores an edited tree and makes the record of it.</summary>
    /// <param name="image">The image that was edited.</param>
    /// <param name="name">The new image's name; null when it takes the old one's place.</param>
    /// <param name="editor">Its tree.</param>
    /// <param name="writer">Where to.</param>
    /// <param name="entry">What was done.</param>
    /// <param name="install">What Windows says of itself now; null when that is as it was.</param>
    public static ImageRecord Store(
        ImageRecord image, string? name, TreeEditor editor, ArchiveWriter writer, HistoryEntry entry, WindowsInstall? install)
    {
        // What starts is read anew where it was touched, and where an older program did not note it.
        var before = new ImageTree(writer.Base, image.Root, $"{writer.Base.Path}#{image.Number}");
        var firmware = WindowsInstall.FindFolder(editor) is { } folder
            && (image.Firmware is null || FirmwareFacts.IsChanged(editor, before, folder))
            ? FirmwareFacts.Read(editor, folder, install?.Architecture ?? image.Architecture) : image.Firmware;
        var root = editor.HasChanges ? editor.Save(writer) : image.Root;
        var record = image with
        {
            Name = name ?? image.Name,
            Created = entry.Time,
            Root = root,
            Firmware = firmware,
            Files = image.Files + editor.FilesDelta,
            Folders = image.Folders + editor.FoldersDelta,
            Bytes = image.Bytes + (editor.BytesDelta ?? 0),
            History = [.. image.History, entry],
        };
        if (install is not null)
        {
            record = record with
            {
                Product = install.Product,
                Build = install.Build,
                Architecture = install.Architecture,
                Languages = install.Languages,
                ComputerName = install.ComputerName,
                State = install.State,
            };
        }
        // What was signed was the image as it was.
        if (name is not null || root != image.Root)
            record = record with { Signatures = null };
        if (name is not null)
            record = record with
            {
                Locked = false,
                Held = false,
                Retires = null,
                Channels = null,
                Origin = new ImageOrigin
                {
                    Kind = "image",
                    From = $"{writer.Base.Header.Id:D}#{image.Number}",
                    Program = Checks.ProgramVersion,
                },
            };
        // Removing one of several names of a file frees its bytes only when it was the last: that takes a count.
        return editor.BytesDelta is null ? record with { Bytes = CountBytes(editor) } : record;
    }

    private static long CountBytes(TreeEditor editor)
    {
        var groups = new HashSet<(ulong, ChunkId)>();
        long Count(TreeEditor.Node node) => editor.Children(node).Sum(child => child.Entry switch
        {
            { Kind: EntryKind.Folder } => Count(child),
            { LinkGroup: not 0, Content: { } content } when !groups.Add((child.Entry.LinkGroup, content.Hash)) => 0,
            _ => child.Entry.Length,
        });
        return Count(editor.Root);
    }
}
