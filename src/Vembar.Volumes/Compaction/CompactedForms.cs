using System.Buffers.Binary;
using Vembar.Images.Nodes;

namespace Vembar.Volumes.Compaction;

/// <summary>What reparse points of compacted files say, and how long the units of each form are.</summary>
/// <remarks>
/// Source: MS-FSCC 2.1.2.1 (IO_REPARSE_TAG_WOF), the vendor's WOF_EXTERNAL_INFO and FILE_PROVIDER_EXTERNAL_INFO_V1: tag, length, then
/// version 1, provider (1: another image file has the content; 2: the file's own stream has it), version 1, algorithm.
/// </remarks>
public static class CompactedForms
{
    /// <summary>The stream that holds the compacted content.</summary>
    public const string Stream = "WofCompressedData";

    /// <summary>The tag of their reparse points.</summary>
    public const uint Tag = 0x80000017;

    private const int HeaderLength = 8, LengthWithForm = HeaderLength + 16;
    private const uint Version = 1, OwnStream = 2;

    private static readonly CompactedForm[] s_forms =
        [CompactedForm.Xpress4K, CompactedForm.Lzx, CompactedForm.Xpress8K, CompactedForm.Xpress16K];

    /// <summary>The form that a reparse point says; none when it says none that is known here.</summary>
    /// <param name="reparse">Tag and data, as NTFS keeps them; null for no reparse point.</param>
    public static CompactedForm Of(byte[]? reparse)
    {
        if (reparse is not { Length: >= LengthWithForm } || BinaryPrimitives.ReadUInt32LittleEndian(reparse) != Tag)
            return CompactedForm.None;
        uint Word(int index) => BinaryPrimitives.ReadUInt32LittleEndian(reparse.AsSpan(HeaderLength + 4 * index));
        return Word(0) == Version && Word(1) == OwnStream && Word(2) == Version && Word(3) < s_forms.Length ? s_forms[Word(3)]
            : CompactedForm.None;
    }

    /// <summary>The reparse point of a form: tag and data.</summary>
    public static byte[] Reparse(CompactedForm form)
    {
        var bytes = new byte[LengthWithForm + 4];
        BinaryPrimitives.WriteUInt32LittleEndian(bytes, Tag);
        BinaryPrimitives.WriteUInt16LittleEndian(bytes.AsSpan(4), (ushort)(bytes.Length - HeaderLength));
        uint[] words = [Version, OwnStream, Version, (uint)Array.IndexOf(s_forms, form), 0];
        for (var i = 0; i < words.Length; i++)
            BinaryPrimitives.WriteUInt32LittleEndian(bytes.AsSpan(HeaderLength + 4 * i), words[i]);
        return bytes;
    }

    /// <summary>How many bytes of content are compacted together.</summary>
    public static int Unit(CompactedForm form) => form switch
    {
        CompactedForm.Xpress4K => 4 << 10,
        CompactedForm.Xpress8K => 8 << 10,
        CompactedForm.Xpress16K => 16 << 10,
        CompactedForm.Lzx => 32 << 10,
        _ => throw new ArgumentOutOfRangeException(nameof(form)),
    };
}
