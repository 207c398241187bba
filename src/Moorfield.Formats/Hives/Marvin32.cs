using System.Numerics;

namespace Moorfield.Formats.Hives;

/// <summary>The hash by which transaction logs of hives are checked. Source: docs/on-disk.md, "Transaction logs" [seen].</summary>
public static class Marvin32
{
    /// <summary>The seed of transaction logs.</summary>
    public const ulong LogSeed = 0x82EF4D887A4E55C5;

    /// <summary>Hashes bytes; the first state word is the lower half of the result.</summary>
    public static ulong Hash(ReadOnlySpan<byte> bytes, ulong seed = LogSeed)
    {
        uint low = (uint)seed;
        uint high = (uint)(seed >> 32);
        for (; bytes.Length >= sizeof(uint); bytes = bytes[sizeof(uint)..])
        {
            low += BinaryPrimitives.ReadUInt32LittleEndian(bytes);
            Mix(ref low, ref high);
        }
        // What is left, and one byte of 0x80 after it.
        uint last = 0x80;
        for (int i = bytes.Length - 1; i >= 0; i--)
            last = (last << 8) | bytes[i];
        low += last;
        Mix(ref low, ref high);
        Mix(ref low, ref high);
        return ((ulong)high << 32) | low;
    }

    private static void Mix(ref uint low, ref uint high)
    {
        high ^= low;
        low = BitOperations.RotateLeft(low, 20) + high;
        high = BitOperations.RotateLeft(high, 9) ^ low;
        low = BitOperations.RotateLeft(low, 27) + high;
        high = BitOperations.RotateLeft(high, 19);
    }
}
