namespace Moorfield.Tests;

/// <summary>Checksums of formats that tests change by hand, written apart from the program's own.</summary>
public static class Checksum
{
    /// <summary>CRC-32 as in Ethernet and zip files.</summary>
    public static uint Crc32(ReadOnlySpan<byte> bytes)
    {
        uint sum = uint.MaxValue;
        foreach (byte b in bytes)
        {
            sum ^= b;
            for (int bit = 0; bit < 8; bit++)
                sum = (sum & 1) != 0 ? (sum >> 1) ^ 0xEDB88320 : sum >> 1;
        }
        return ~sum;
    }
}
