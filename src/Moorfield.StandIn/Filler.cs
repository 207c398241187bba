namespace Moorfield.StandIn;

/// <summary>Content for files that nobody reads: the same for the same seed, different for different ones, and easy to compress.</summary>
internal static class Filler
{
    private const int Page = 4096;
    private const int Motif = 192;

    internal static byte[] Bytes(string seed, int length)
    {
        byte[] bytes = new byte[length];
        uint state = 2166136261;
        foreach (char c in seed)
            state = (state ^ c) * 16777619;
        for (int start = 0; start < length; start += Page)
        {
            int end = Math.Min(start + Page, length);
            for (int i = start; i < end; i++)
            {
                if (i - start < Motif)
                {
                    state = state * 1664525 + 1013904223;
                    bytes[i] = (byte)(state >> 24);
                }
                else
                {
                    bytes[i] = bytes[i - Motif];
                }
            }
        }
        return bytes;
    }
}
