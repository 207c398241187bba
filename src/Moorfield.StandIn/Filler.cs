namespace Moorfield.StandIn;

/// <summary>Content for files that nobody reads: the same for the same seed, different for different ones, and easy to compress.</summary>
internal static class Filler
{
    private const int Page = 4096;
    private const int Motif = 192;

    private static readonly string[] Syllables = ["mar", "shal", "ferry", "tide", "bell", "buoy", "quay", "rope", "gull", "salt", "reed", "wick",
    "mole", "fen", "oar", "lee"];

    /// <summary>Text as registries hold it: paths, words and numbers in UTF-16.</summary>
    internal static byte[] Text(int seed, int length)
    {
        var random = new Random(seed);
        var text = new System.Text.StringBuilder(length / 2);
        while (text.Length < length / 2)
        {
            text.Append(@"C:\Program Files\Northlight\");
            for (int i = random.Next(2, 5); i > 0; i--)
                text.Append(Syllables[random.Next(Syllables.Length)]);
            text.Append(@"\Components\{").Append(random.Next(0x1000000).ToString("X6", System.Globalization.CultureInfo.InvariantCulture))
                .Append("}\\InprocServer32\0");
        }
        return System.Text.Encoding.Unicode.GetBytes(text.ToString(0, length / 2));
    }

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
