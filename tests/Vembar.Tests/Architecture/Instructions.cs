using System.Buffers.Binary;
using System.Reflection;
using System.Reflection.Emit;

namespace Vembar.Tests.Architecture;

/// <summary>The instructions of a method.</summary>
internal static class Instructions
{
    private static readonly Dictionary<ushort, OpCode> s_codes = typeof(OpCodes).GetFields(BindingFlags.Public | BindingFlags.Static)
        .Select(f => (OpCode)f.GetValue(null)!).ToDictionary(c => (ushort)c.Value);

    /// <summary>The tokens that a method's instructions name: types, methods, fields.</summary>
    public static IEnumerable<int> Tokens(byte[] bytes)
    {
        const ushort TwoBytes = 0xFE;
        for (var at = 0; at < bytes.Length;)
        {
            ushort code = bytes[at++];
            if (code == TwoBytes)
                code = (ushort)(code << 8 | bytes[at++]);
            var operand = s_codes[code].OperandType;
            if (operand is OperandType.InlineField or OperandType.InlineMethod or OperandType.InlineTok or OperandType.InlineType)
                yield return BinaryPrimitives.ReadInt32LittleEndian(bytes.AsSpan(at));
            at += operand switch
            {
                OperandType.InlineNone => 0,
                OperandType.ShortInlineBrTarget or OperandType.ShortInlineI or OperandType.ShortInlineVar => 1,
                OperandType.InlineVar => 2,
                OperandType.InlineI8 or OperandType.InlineR => 8,
                OperandType.InlineSwitch => 4 + 4 * BinaryPrimitives.ReadInt32LittleEndian(bytes.AsSpan(at)),
                _ => 4,
            };
        }
    }
}
