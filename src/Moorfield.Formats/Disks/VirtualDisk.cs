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
    /// <summary>VMware's, in one file or several.</summary>
    Vmdk,
    /// <summary>VirtualBox's.</summary>
    Vdi,
}

/// <summary>How a disk lies in its file, and the other files that it needs.</summary>
public sealed record DiskLayout(DiskKind Kind)
{
    /// <summary>The disk below, of which the file holds the differences; null when it holds all.</summary>
    public BackingName? Backing { get; init; }

    /// <summary>The files that hold the content of a VMware disk; empty where the file does itself.</summary>
    public ImmutableArray<DiskExtent> Extents { get; init; } = [];
}

/// <summary>A disk that another one names.</summary>
/// <param name="Name">A path, from the folder of the file that names it on.</param>
/// <param name="Kind">As recorded; the content is not asked.</param>
public sealed record BackingName(string Name, DiskKind Kind);

/// <summary>A file that holds a stretch of a VMware disk.</summary>
/// <param name="Name">A path, from the folder of the file that names it on.</param>
/// <param name="IsSparse">True if it begins with a header and tables.</param>
public sealed record DiskExtent(string Name, bool IsSparse);

/// <summary>A disk as it is served: by paths that were looked at.</summary>
/// <param name="Path">Full path.</param>
/// <param name="Below">The disk below; null for none.</param>
public sealed record ServedDisk(string Path, DiskKind Kind, ServedDisk? Below = null);

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
    public static DiskLayout Recognise(BlockSource file)
    {
        byte[] head = new byte[Math.Min(HeadLength, file.Length)];
        file.Read(0, head);
        if (Begins([(byte)'Q', (byte)'F', (byte)'I', 0xFB]))
        {
            uint version = head.Length < 104 ? 0 : BinaryPrimitives.ReadUInt32BigEndian(head.AsSpan(4));
            if (version is not (2 or 3))
                throw new InvalidDataException("is a QEMU disk of a version that cannot be read");
            // Bit 2: the content is in another file. Bit 0: it was not closed.
            ulong incompatible = version == 3 ? BinaryPrimitives.ReadUInt64BigEndian(head.AsSpan(72)) : 0;
            if ((incompatible & 4) != 0)
                throw new InvalidDataException("has its content in another file. Bring the two together first: qemu-img convert -O qcow2 FROM TO");
            if (BinaryPrimitives.ReadUInt32BigEndian(head.AsSpan(32)) != 0)
                throw new InvalidDataException("is encrypted");
            return new DiskLayout(DiskKind.Qcow2) { Backing = Backing(file, head, version) };
        }
        if (Begins("vhdxfile"u8))
        {
            return HasVhdxParent(file) ? throw new InvalidDataException(WindowsDifferences) : new DiskLayout(DiskKind.Vhdx);
        }
        if (Begins("KDMV"u8))
        {
            CheckVmdk(file, head);
            return new DiskLayout(DiskKind.Vmdk);
        }
        if (Begins("# Disk Descriptor"u8))
            return new DiskLayout(DiskKind.Vmdk) { Extents = Extents(file) };
        if (Begins("COWD"u8))
            throw new InvalidDataException("is a VMware disk of an old kind. Convert it first: qemu-img convert -O qcow2 FROM TO");
        if (Begins([(byte)'E', (byte)'V', (byte)'F', 9, 13, 10, 255, 0]))
        {
            throw new InvalidDataException("is an image in Expert Witness format (E01). Mount it with ewfmount, and name the file that appears "
                + "there");
        }
        if (head.Length >= 16 && head.AsSpan(4, 12).SequenceEqual("SignedImage "u8))
        {
            throw new InvalidDataException("is a Full Flash Update (FFU), which only Windows opens. Apply it to a disk there (dism /Apply-Ffu), and "
                + "name that disk");
        }
        if (head.Length >= 68 && BinaryPrimitives.ReadUInt32LittleEndian(head.AsSpan(64)) == 0xBEDA107F)
        {
            // Kinds 1 and 2 hold a whole disk. The identifiers of a parent are zero then. Source: VirtualBox, VDICore.h.
            return head.Length < VdiLength || BinaryPrimitives.ReadUInt32LittleEndian(head.AsSpan(VdiKind)) is not (1 or 2)
                || head.AsSpan(VdiParents, 2 * GuidLength).ContainsAnyExcept((byte)0)
                    ? throw new InvalidDataException("holds only the differences to another disk. Merge the two first, with the program that made it")
                    : new DiskLayout(DiskKind.Vdi);
        }
        if (!HasFooter(file) && !Begins("conectix"u8))
            return new DiskLayout(DiskKind.Raw);
        byte[] footer = new byte[FooterLength];
        file.Read(Begins("conectix"u8) ? 0 : file.Length - FooterLength, footer);
        return BinaryPrimitives.ReadUInt32BigEndian(footer.AsSpan(60)) == DifferencingVpc
            ? throw new InvalidDataException(WindowsDifferences)
            : new DiskLayout(DiskKind.Vpc);

        bool Begins(ReadOnlySpan<byte> magic) => head.AsSpan().StartsWith(magic);
    }

    /*
       From the header's end on there are extensions: type, length, data filled up to 8 bytes; the last one has the type 0. The format of the
       disk below is one, and must be recorded: what a guest writes into a raw disk must not make it another kind. Source: QEMU,
       docs/interop/qcow2.txt.
    */
    private static BackingName? Backing(BlockSource file, byte[] head, uint version)
    {
        const uint Format = 0xE2792ACA;
        const int MaxName = 1023, MaxExtensions = 64 << 10;
        ulong place = BinaryPrimitives.ReadUInt64BigEndian(head.AsSpan(8));
        if (place == 0)
            return null;
        uint length = BinaryPrimitives.ReadUInt32BigEndian(head.AsSpan(16));
        if (length is 0 or > MaxName || place > MaxExtensions || (long)place + length > file.Length)
            throw new InvalidDataException("names the disk below it in a way that makes no sense");
        byte[] start = new byte[(int)place + (int)length];
        file.Read(0, start);
        string name = Utf8Name(start.AsSpan((int)place));
        int at = version == 2 ? 72 : (int)Math.Min(BinaryPrimitives.ReadUInt32BigEndian(head.AsSpan(100)), int.MaxValue - 8);
        while (at + 8 <= (int)place)
        {
            uint type = BinaryPrimitives.ReadUInt32BigEndian(start.AsSpan(at));
            uint size = BinaryPrimitives.ReadUInt32BigEndian(start.AsSpan(at + 4));
            if (type == 0 || size > place - (ulong)at - 8)
                break;
            if (type == Format)
            {
                string format = Encoding.Latin1.GetString(start.AsSpan(at + 8, (int)size));
                return Enum.GetValues<DiskKind>().Where(k => k.ToString().ToLowerInvariant() == format).Select(k => new BackingName(name, k))
                    .FirstOrDefault() ?? throw new InvalidDataException("lies above a disk of a format that is not supported");
            }
            at += 8 + (((int)size + 7) & ~7);
        }
        throw new InvalidDataException("lies above another disk, whose format is not recorded. Record it: qemu-img rebase -u -F FORMAT -b BELOW "
            + "DISK");
    }

    /// <summary>The name of a file that a disk gives; nothing else than a file is meant by it.</summary>
    private static string Utf8Name(ReadOnlySpan<byte> bytes)
    {
        string name = System.Text.Unicode.Utf8.IsValid(bytes) ? Encoding.UTF8.GetString(bytes) : "";
        int colon = name.IndexOf(':', StringComparison.Ordinal), slash = name.IndexOf('/', StringComparison.Ordinal);
        return name.Length == 0 || name.Contains('\0', StringComparison.Ordinal) || (colon >= 0 && (slash < 0 || colon < slash))
            ? throw new InvalidDataException("names something other than a file as a part of it. Only disks whose parts are all files are opened")
            : name;
    }

    private const string PartOfVmdk = "is one of several files of a VMware disk. Name the text file next to it that lists them";

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

    /// <summary>The files of a VMware disk whose description is a separate file. QEMU reads the same lines, to the first NUL.</summary>
    private static ImmutableArray<DiskExtent> Extents(BlockSource file)
    {
        const int MaxLength = 20 << 10, MaxExtents = 1000;
        if (file.Length > MaxLength)
            throw new InvalidDataException("is a VMware disk whose description cannot be understood");
        byte[] bytes = new byte[file.Length];
        file.Read(0, bytes);
        string kind = Described(bytes, out var lines);
        if (kind is not ("monolithicFlat" or "vmfs" or "twoGbMaxExtentSparse" or "twoGbMaxExtentFlat"))
            throw new InvalidDataException("is a VMware disk of a kind that cannot be read. Convert it first: qemu-img convert -O qcow2 FROM TO");
        if (lines.Count is 0 or > MaxExtents)
            throw new InvalidDataException("is a VMware disk whose description cannot be understood");
        return [.. lines.Select(Extent)];
    }

    // RW 4194304 SPARSE "name" or RW 4194304 FLAT "name" 0
    private static DiskExtent Extent(string line)
    {
        string[] parts = line.Split('"');
        string[] first = parts[0].TrimEnd().Split(' ');
        bool isSparse = first is ["RW", _, "SPARSE"], isFlat = first is ["RW", _, "FLAT" or "VMFS"];
        if (parts.Length != 3 || !(isSparse || isFlat) || !long.TryParse(first[1], NumberStyles.None, CultureInfo.InvariantCulture, out _)
            || (parts[2].Trim() is { Length: > 0 } offset && !long.TryParse(offset, NumberStyles.None, CultureInfo.InvariantCulture, out _)))
            throw new InvalidDataException("is a VMware disk whose description cannot be understood");
        return new DiskExtent(Utf8Name(Encoding.Latin1.GetBytes(parts[1])), isSparse);
    }

    /// <summary>Makes sure that a file holds a stretch of a VMware disk, and names no further file.</summary>
    /// <exception cref="InvalidDataException">It does not.</exception>
    public static void CheckExtent(BlockSource file)
    {
        byte[] head = new byte[512];
        if (file.Length < head.Length)
            throw new InvalidDataException("is not a part of a VMware disk");
        file.Read(0, head);
        // Without a capacity QEMU looks for a description in it.
        if (!head.AsSpan().StartsWith("KDMV"u8) || BinaryPrimitives.ReadInt64LittleEndian(head.AsSpan(12)) <= 0)
            throw new InvalidDataException("is not a part of a VMware disk");
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
            throw new InvalidDataException(place == 0 && capacity > 0 ? PartOfVmdk : "is a VMware disk of a kind that cannot be read");
        byte[] bytes = new byte[Math.Min(size * 512, file.Length - (place * 512))];
        file.Read(place * 512, bytes);
        if (bytes[0] == 0)
            throw new InvalidDataException(PartOfVmdk);
        if (Described(bytes, out var extents) is not ("monolithicSparse" or "streamOptimized") || extents.Count != 1)
            throw new InvalidDataException("is a VMware disk in several files. Join them first: qemu-img convert -O qcow2 FROM TO");
    }

    /// <summary>Reads the description of a VMware disk that has no parent; gives its kind and the lines of its extents.</summary>
    private static string Described(byte[] bytes, out List<string> extents)
    {
        int end = bytes.AsSpan().IndexOf((byte)0);
        string text = Encoding.Latin1.GetString(end < 0 ? bytes : bytes[..end]);
        var values = new Dictionary<string, string>(StringComparer.OrdinalIgnoreCase);
        extents = [];
        foreach (string line in text.Split('\n').Select(l => l.Trim()).Where(l => l.Length > 0 && l[0] != '#'))
        {
            int equals = line.IndexOf('=', StringComparison.Ordinal);
            string first = line.Split(' ', 2)[0];
            if (first is "RW" or "RDONLY" or "NOACCESS")
                extents.Add(line);
            else if (equals <= 0 || !values.TryAdd(line[..equals].Trim(), line[(equals + 1)..].Trim().Trim('"')))
                throw new InvalidDataException("is a VMware disk whose description cannot be understood");
        }
        // QEMU looks for the hint anywhere, in comments as well.
        if (!values.GetValueOrDefault("parentCID", "ffffffff").Equals("ffffffff", StringComparison.OrdinalIgnoreCase)
            || text.Contains("parentFileNameHint", StringComparison.OrdinalIgnoreCase)
            || Occurrences(text, "parentCID") > 1)
            throw new InvalidDataException(Differences);
        return values.GetValueOrDefault("createType", "");
    }

    private static int Occurrences(string text, string word) => text.Split(word, StringSplitOptions.None).Length - 1;

    /// <summary>Has a virtual disk served, and connects to its server, which ends with the connection, and with this process.</summary>
    /// <param name="disk">As it was recognised.</param>
    /// <param name="writable">True if it is to be written, at the top: then nothing else may have it open.</param>
    /// <exception cref="IOException">qemu-nbd is not there, or cannot serve it; the message follows the file's name.</exception>
    public static BlockSource Serve(ServedDisk disk, bool writable)
    {
        string node = $"json:{Node(disk)}";
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

    /// <summary>How QEMU opens a disk: nothing but the files that were looked at, each as what it was recognised as.</summary>
    private static string Node(ServedDisk disk)
    {
        string driver = disk.Kind.ToString().ToLowerInvariant(), name = JsonEncodedText.Encode(disk.Path).ToString();
        string below = disk.Below is { } next ? $",\"backing\":{Node(next)}"
            : disk.Kind is DiskKind.Qcow2 or DiskKind.Vmdk ? ",\"backing\":null" : "";
        return $"{{\"driver\":\"{driver}\",\"file\":{{\"driver\":\"file\",\"filename\":\"{name}\"}}{below}}}";
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
