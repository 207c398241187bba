using System.Text.Json;

namespace Moorfield.Formats.Disks;

/// <summary>The kinds of file that hold a disk.</summary>
public enum DiskKind
{
    /// <summary>The disk's bytes as they are: a raw image, or a device.</summary>
    Raw,
    /// <summary>QEMU's own, versions 2 and 3.</summary>
    Qcow2,
    /// <summary>Hyper-V's.</summary>
    Vhdx,
    /// <summary>Hyper-V's older one, as Virtual PC wrote it.</summary>
    Vpc,
    /// <summary>VMware's, in one file.</summary>
    Vmdk,
    /// <summary>VirtualBox's.</summary>
    Vdi,
}

/// <summary>Recognises virtual disks, and has qemu-nbd serve them.</summary>
public static class VirtualDisk
{
    private const int HeadLength = 1024;
    private const int FooterLength = 512;
    private const uint DifferencingVpc = 4;

    /// <summary>
    /// What kind of disk a file holds, by its first kilobyte, or by its last sector for a <see cref="DiskKind.Vpc"/> of fixed size.
    /// </summary>
    /// <exception cref="InvalidDataException">It is of a kind that cannot be read, or needs another file.</exception>
    public static DiskKind Recognise(BlockSource file)
    {
        byte[] head = new byte[Math.Min(HeadLength, file.Length)];
        file.Read(0, head);
        if (Begins([(byte)'Q', (byte)'F', (byte)'I', 0xFB]))
        {
            uint version = head.Length < 104 ? 0 : BinaryPrimitives.ReadUInt32BigEndian(head.AsSpan(4));
            if (version is not (2 or 3))
                throw new InvalidDataException("is a QEMU disk of a version that cannot be read");
            if (BinaryPrimitives.ReadUInt64BigEndian(head.AsSpan(8)) != 0)
                throw new InvalidDataException(Differences);
            // Bit 2: the content is in another file. Bit 0: it was not closed.
            ulong incompatible = version == 3 ? BinaryPrimitives.ReadUInt64BigEndian(head.AsSpan(72)) : 0;
            if ((incompatible & 4) != 0)
                throw new InvalidDataException("has its content in another file. Bring the two together first: qemu-img convert -O qcow2 FROM TO");
            if (BinaryPrimitives.ReadUInt32BigEndian(head.AsSpan(32)) != 0)
                throw new InvalidDataException("is encrypted");
            return DiskKind.Qcow2;
        }
        if (Begins("vhdxfile"u8))
        {
            return HasVhdxParent(file) ? throw new InvalidDataException(WindowsDifferences) : DiskKind.Vhdx;
        }
        if (Begins("KDMV"u8))
        {
            CheckVmdk(file, head);
            return DiskKind.Vmdk;
        }
        if (Begins("# Disk Descriptor"u8) || Begins("COWD"u8))
            throw new InvalidDataException("is a VMware disk in several files. Join them first: qemu-img convert -O qcow2 FROM TO");
        if (head.Length >= 68 && BinaryPrimitives.ReadUInt32LittleEndian(head.AsSpan(64)) == 0xBEDA107F)
        {
            // Kinds 1 and 2 hold a whole disk. The identifiers of a parent are zero then. Source: VirtualBox, VDICore.h.
            return head.Length < VdiLength || BinaryPrimitives.ReadUInt32LittleEndian(head.AsSpan(VdiKind)) is not (1 or 2)
                || head.AsSpan(VdiParents, 2 * GuidLength).ContainsAnyExcept((byte)0)
                    ? throw new InvalidDataException("holds only the differences to another disk. Merge the two first, with the program that made it")
                    : DiskKind.Vdi;
        }
        if (!HasFooter(file) && !Begins("conectix"u8))
            return DiskKind.Raw;
        byte[] footer = new byte[FooterLength];
        file.Read(Begins("conectix"u8) ? 0 : file.Length - FooterLength, footer);
        return BinaryPrimitives.ReadUInt32BigEndian(footer.AsSpan(60)) == DifferencingVpc
            ? throw new InvalidDataException(WindowsDifferences)
            : DiskKind.Vpc;

        bool Begins(ReadOnlySpan<byte> magic) => head.AsSpan().StartsWith(magic);
    }

    private const string Differences = "holds only the differences to another disk. Merge the two first: qemu-img convert -O qcow2 FROM TO";

    // qemu-img opens such a disk without its parent, and makes a disk of the differences alone, without a word. [tried]
    private const string WindowsDifferences = "holds only the differences to another disk. Merge the two in Windows first (Merge-VHD, or Edit Disk "
        + "in Hyper-V Manager): other programs may make a disk of the differences alone";
    private const int VdiKind = 0x4C;
    private const int VdiParents = 0x1A8;
    private const int GuidLength = 16;
    private const int VdiLength = VdiParents + (2 * GuidLength);

    /*
       Region table at 192 KiB: "regi", checksum, count, reserved; entries of 32 bytes: GUID, offset, length, required. The metadata region:
       "metadata", reserved 2, count 2, reserved 20; entries of 32 bytes: GUID, offset in the region, length, flags. The file parameters: block
       size, flags, of which bit 1 says that there is a parent. Source: [MS-VHDX] 2.2.3, 2.6.
    */
    private static bool HasVhdxParent(BlockSource file)
    {
        const int Entry = 32;
        const int Table = 64 << 10;
        var metadata = new Guid("8B7CA206-4790-4B9A-B8FE-575F050F886E");
        var parameters = new Guid("CAA16737-FA36-4D43-B3B6-33F0AA44E76B");
        return Read(192 << 10) is { } regions && regions.AsSpan().StartsWith("regi"u8)
            && Find(regions, 16, metadata, 16) is { } place && place <= (ulong)file.Length
            && Read((long)place) is { } table && table.AsSpan().StartsWith("metadata"u8)
            && Find(table, 32, parameters, 16, isShort: true) is { } at && at < 1 << 20
            && Read((long)place + (long)at) is { } flags && (BinaryPrimitives.ReadUInt32LittleEndian(flags.AsSpan(4)) & 2) != 0;

        byte[]? Read(long offset)
        {
            if (offset < 0 || offset > file.Length - 8)
                return null;
            byte[] bytes = new byte[Math.Min(Table, file.Length - offset)];
            file.Read(offset, bytes);
            return bytes;
        }

        static ulong? Find(byte[] table, int start, Guid wanted, int offset, bool isShort = false)
        {
            for (int at = start; at + Entry <= table.Length; at += Entry)
            {
                if (new Guid(table.AsSpan(at, GuidLength)) == wanted)
                {
                    return isShort ? BinaryPrimitives.ReadUInt32LittleEndian(table.AsSpan(at + offset))
                        : BinaryPrimitives.ReadUInt64LittleEndian(table.AsSpan(at + offset));
                }
            }
            return null;
        }
    }

    private static bool HasFooter(BlockSource file)
    {
        if (file.Length < 2 * FooterLength || file.Length % FooterLength != 0)
            return false;
        byte[] footer = new byte[8];
        file.Read(file.Length - FooterLength, footer);
        return footer.AsSpan().SequenceEqual("conectix"u8);
    }

    /*
       The description is a text of lines "name = value" in its own sectors; QEMU reads it where the header says, to its first NUL, and looks
       for names anywhere in it. So each line must be one that is known, and a parent may be named in none. Source: VMware, "Virtual Disk
       Format 5.0"; QEMU, block/vmdk.c.
    */
    private static void CheckVmdk(BlockSource file, byte[] head)
    {
        long capacity = BinaryPrimitives.ReadInt64LittleEndian(head.AsSpan(12));
        long place = BinaryPrimitives.ReadInt64LittleEndian(head.AsSpan(28));
        long size = BinaryPrimitives.ReadInt64LittleEndian(head.AsSpan(36));
        if (capacity <= 0 || place <= 0 || size is <= 0 or > 2048 || place > file.Length / 512)
            throw new InvalidDataException("is a VMware disk of a kind that cannot be read");
        byte[] bytes = new byte[Math.Min(size * 512, file.Length - (place * 512))];
        file.Read(place * 512, bytes);
        int end = bytes.AsSpan().IndexOf((byte)0);
        string text = Encoding.Latin1.GetString(end < 0 ? bytes : bytes[..end]);
        var values = new Dictionary<string, string>(StringComparer.OrdinalIgnoreCase);
        int extents = 0;
        foreach (string line in text.Split('\n').Select(l => l.Trim()).Where(l => l.Length > 0 && l[0] != '#'))
        {
            int equals = line.IndexOf('=', StringComparison.Ordinal);
            string first = line.Split(' ', 2)[0];
            if (first is "RW" or "RDONLY" or "NOACCESS")
                extents++;
            else if (equals <= 0 || !values.TryAdd(line[..equals].Trim(), line[(equals + 1)..].Trim().Trim('"')))
                throw new InvalidDataException("is a VMware disk whose description cannot be understood");
        }
        string kind = values.GetValueOrDefault("createType", "");
        if (kind is not ("monolithicSparse" or "streamOptimized") || extents != 1)
            throw new InvalidDataException("is a VMware disk in several files. Join them first: qemu-img convert -O qcow2 FROM TO");
        // QEMU looks for the hint anywhere, in comments as well.
        if (!values.GetValueOrDefault("parentCID", "ffffffff").Equals("ffffffff", StringComparison.OrdinalIgnoreCase)
            || text.Contains("parentFileNameHint", StringComparison.OrdinalIgnoreCase)
            || Occurrences(text, "parentCID") > 1)
            throw new InvalidDataException(Differences);
    }

    private static int Occurrences(string text, string word) => text.Split(word, StringSplitOptions.None).Length - 1;

    /// <summary>Has a virtual disk served, and connects to its server, which ends with the connection, and with this process.</summary>
    /// <param name="path">Full path.</param>
    /// <param name="kind">As it was recognised.</param>
    /// <param name="writable">True if it is to be written: then nothing else may have it open.</param>
    /// <exception cref="IOException">qemu-nbd is not there, or cannot serve it; the message follows the file's name.</exception>
    public static BlockSource Serve(string path, DiskKind kind, bool writable)
    {
        // Nothing but the file that was looked at is opened.
        string driver = kind.ToString().ToLowerInvariant();
        string name = JsonEncodedText.Encode(path).ToString();
        string backing = kind is DiskKind.Qcow2 or DiskKind.Vmdk ? ",\"backing\":null" : "";
        string node = $"json:{{\"driver\":\"{driver}\",\"file\":{{\"driver\":\"file\",\"filename\":\"{name}\"}}{backing}}}";
        // The server of a command before, or of this one before it writes, ends a little after its connection: its lock is waited for.
        for (int tries = 0; ; tries++)
        {
            try
            {
                return DiskServer.Start([.. writable ? [] : new[] { "--read-only" }, node]);
            }
            catch (DiskServerException e)
            {
                if (!e.Said.Contains("lock", StringComparison.Ordinal) || tries == MaxTries)
                    throw new IOException(Reason(e.Said), e);
                Thread.Sleep(Pause);
            }
        }
    }

    private const int MaxTries = 20;
    private static readonly TimeSpan Pause = TimeSpan.FromMilliseconds(100);

    /// <summary>Why the server did not start, by what it said.</summary>
    internal static string Reason(string said)
    {
        if (said.Contains("log that needs to be replayed", StringComparison.Ordinal))
            return "was not closed properly, and its log has changes that are not in the disk yet. Attach it in Windows once and detach it again";
        if (said.Contains("nsupported", StringComparison.Ordinal) && said.Contains("feature", StringComparison.Ordinal))
            return "uses a feature that the installed qemu-utils do not know. Update them, or convert the disk where it was made";
        string line = said.Split('\n').FirstOrDefault(l => l.Contains("qemu-nbd:", StringComparison.Ordinal)) ?? said.Split('\n')[0];
        if (line.Contains("lock", StringComparison.Ordinal))
            return "is in use by another program, such as a virtual machine that runs. Shut that down first";
        int at = line.LastIndexOf(": ", StringComparison.Ordinal);
        return $"could not be opened: {(at < 0 ? line : line[(at + 2)..]).TrimEnd('.')}";
    }
}
