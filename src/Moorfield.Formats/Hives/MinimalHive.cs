namespace Moorfield.Formats.Hives;

/*
   The smallest file that is a registry hive: a base block of 4096 bytes and one bin of 4096 with the root key (nk) and its
   security descriptor (sk). libhivex fills it from there. Offsets inside the bin count from the end of the base block.
*/

/// <summary>Makes an empty registry hive from nothing. Source: docs/on-disk.md, "Hives" [doc].</summary>
public static class MinimalHive
{
    private const int BlockSize = 4096;
    private const int RootCell = 32;
    private const int NkHeaderLength = 76;

    /// <param name="rootName">Name of the root key, ASCII, at most 200 characters.</param>
    /// <param name="time">Last-written time of the hive and its root.</param>
    public static byte[] Create(string rootName, DateTimeOffset time)
    {
        byte[] file = new byte[2 * BlockSize];
        var header = file.AsSpan(0, BlockSize);
        "regf"u8.CopyTo(header);
        Write(header, 4, 1); // primary sequence number
        Write(header, 8, 1); // secondary sequence number
        BinaryPrimitives.WriteInt64LittleEndian(header[12..], time.ToFileTime());
        Write(header, 20, 1); // major version
        Write(header, 24, 3); // minor version
        Write(header, 32, 1); // format: memory load
        Write(header, 36, RootCell);
        Write(header, 40, BlockSize); // bytes in bins
        Write(header, 44, 1); // clustering factor
        uint checksum = 0;
        for (int i = 0; i < 508; i += 4)
            checksum ^= BinaryPrimitives.ReadUInt32LittleEndian(header[i..]);
        Write(header, 508, checksum);

        var bin = file.AsSpan(BlockSize);
        "hbin"u8.CopyTo(bin);
        Write(bin, 8, BlockSize);
        BinaryPrimitives.WriteInt64LittleEndian(bin[20..], time.ToFileTime());

        byte[] name = Encoding.ASCII.GetBytes(rootName);
        int rootLength = Align(4 + NkHeaderLength + name.Length);
        int securityCell = RootCell + rootLength;
        byte[] descriptor = SecurityDescriptor();
        int securityLength = Align(4 + 20 + descriptor.Length);

        var root = bin.Slice(RootCell, rootLength);
        Write(root, 0, (uint)-rootLength); // in use
        "nk"u8.CopyTo(root[4..]);
        BinaryPrimitives.WriteUInt16LittleEndian(root[6..], 0x2C); // root, no delete, ASCII name
        BinaryPrimitives.WriteInt64LittleEndian(root[8..], time.ToFileTime());
        Write(root, 20, uint.MaxValue); // parent
        Write(root, 32, uint.MaxValue); // list of subkeys
        Write(root, 36, uint.MaxValue); // list of volatile subkeys
        Write(root, 44, uint.MaxValue); // list of values
        Write(root, 48, (uint)securityCell);
        Write(root, 52, uint.MaxValue); // class name
        BinaryPrimitives.WriteUInt16LittleEndian(root[76..], (ushort)name.Length);
        name.CopyTo(root[80..]);

        var security = bin.Slice(securityCell, securityLength);
        Write(security, 0, (uint)-securityLength);
        "sk"u8.CopyTo(security[4..]);
        Write(security, 8, (uint)securityCell); // the list of descriptors is a ring of one
        Write(security, 12, (uint)securityCell);
        Write(security, 16, 1); // references
        Write(security, 20, (uint)descriptor.Length);
        descriptor.CopyTo(security[24..]);

        int free = securityCell + securityLength;
        Write(bin, free, (uint)(BlockSize - free)); // positive: not in use
        return file;
    }

    /// <summary>Self-relative: owner and group administrators, full access for administrators and the system, reading for users.</summary>
    private static byte[] SecurityDescriptor()
    {
        byte[] administrators = [1, 2, 0, 0, 0, 0, 0, 5, 32, 0, 0, 0, 0x20, 2, 0, 0];
        byte[] users = [1, 2, 0, 0, 0, 0, 0, 5, 32, 0, 0, 0, 0x21, 2, 0, 0];
        byte[] system = [1, 1, 0, 0, 0, 0, 0, 5, 18, 0, 0, 0];
        const uint FullControl = 0xF003F;
        const uint ReadKey = 0x20019;
        byte[] entries = [.. Entry(FullControl, administrators), .. Entry(FullControl, system), .. Entry(ReadKey, users)];
        byte[] list = [2, 0, .. BitConverter.GetBytes((ushort)(8 + entries.Length)), 3, 0, 0, 0, .. entries];
        const int HeaderLength = 20;
        uint ownerOffset = (uint)(HeaderLength + list.Length);
        return
        [
            1, 0, 0x04, 0x80, // revision; access list present, self-relative
            .. BitConverter.GetBytes(ownerOffset),
            .. BitConverter.GetBytes(ownerOffset + (uint)administrators.Length),
            0, 0, 0, 0, // no audit list
            .. BitConverter.GetBytes((uint)HeaderLength),
            .. list, .. administrators, .. administrators,
        ];

        static byte[] Entry(uint access, byte[] sid) =>
            [0, 2, .. BitConverter.GetBytes((ushort)(8 + sid.Length)), .. BitConverter.GetBytes(access), .. sid]; // allow, inherited by subkeys
    }

    private static void Write(Span<byte> span, int offset, uint value) => BinaryPrimitives.WriteUInt32LittleEndian(span[offset..], value);

    private static int Align(int length) => (length + 7) & ~7;
}
