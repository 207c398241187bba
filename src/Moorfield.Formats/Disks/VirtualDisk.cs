using System.Buffers.Binary;
using System.Diagnostics;
using System.Text;

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
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(20);

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
                throw new InvalidDataException("holds only the differences to another disk. Merge the two first: qemu-img convert -O qcow2 FROM TO");
            // Bit 2: the content is in another file. Bit 0: it was not closed.
            ulong incompatible = version == 3 ? BinaryPrimitives.ReadUInt64BigEndian(head.AsSpan(72)) : 0;
            if ((incompatible & 4) != 0)
                throw new InvalidDataException("has its content in another file. Bring the two together first: qemu-img convert -O qcow2 FROM TO");
            if (BinaryPrimitives.ReadUInt32BigEndian(head.AsSpan(32)) != 0)
                throw new InvalidDataException("is encrypted");
            return DiskKind.Qcow2;
        }
        if (Begins("vhdxfile"u8))
            return DiskKind.Vhdx;
        if (Begins("KDMV"u8))
        {
            CheckVmdk(file, head);
            return DiskKind.Vmdk;
        }
        if (Begins("# Disk Descriptor"u8) || Begins("COWD"u8))
            throw new InvalidDataException("is a VMware disk made of several files. Bring them together first: qemu-img convert -O qcow2 FROM TO");
        if (head.Length >= 68 && BinaryPrimitives.ReadUInt32LittleEndian(head.AsSpan(64)) == 0xBEDA107F)
            return DiskKind.Vdi;
        if (!HasFooter(file) && !Begins("conectix"u8))
            return DiskKind.Raw;
        byte[] footer = new byte[FooterLength];
        file.Read(Begins("conectix"u8) ? 0 : file.Length - FooterLength, footer);
        return BinaryPrimitives.ReadUInt32BigEndian(footer.AsSpan(60)) == DifferencingVpc
            ? throw new InvalidDataException("holds only the differences to another disk. Merge the two first: qemu-img convert -O qcow2 FROM TO")
            : DiskKind.Vpc;

        bool Begins(ReadOnlySpan<byte> magic) => head.AsSpan().StartsWith(magic);
    }

    private static bool HasFooter(BlockSource file)
    {
        if (file.Length < 2 * FooterLength || file.Length % FooterLength != 0)
            return false;
        byte[] footer = new byte[8];
        file.Read(file.Length - FooterLength, footer);
        return footer.AsSpan().SequenceEqual("conectix"u8);
    }

    // The description inside names the files that hold the content, and a parent.
    private static void CheckVmdk(BlockSource file, byte[] head)
    {
        long capacity = BinaryPrimitives.ReadInt64LittleEndian(head.AsSpan(12));
        long place = BinaryPrimitives.ReadInt64LittleEndian(head.AsSpan(28));
        long size = BinaryPrimitives.ReadInt64LittleEndian(head.AsSpan(36));
        if (capacity <= 0 || place <= 0 || size is <= 0 or > 2048 || place > file.Length / 512)
            throw new InvalidDataException("is a VMware disk of a kind that cannot be read");
        byte[] bytes = new byte[Math.Min(size * 512, file.Length - (place * 512))];
        file.Read(place * 512, bytes);
        string text = Encoding.Latin1.GetString(bytes);
        if (!text.Contains("createType=\"monolithicSparse\"", StringComparison.Ordinal)
            && !text.Contains("createType=\"streamOptimized\"", StringComparison.Ordinal))
            throw new InvalidDataException("is a VMware disk made of several files. Bring them together first: qemu-img convert -O qcow2 FROM TO");
        if (!text.Contains("parentCID=ffffffff", StringComparison.OrdinalIgnoreCase))
            throw new InvalidDataException("holds only the differences to another disk. Merge the two first: qemu-img convert -O qcow2 FROM TO");
    }

    /// <summary>Has a virtual disk served, and connects to its server, which ends with the connection.</summary>
    /// <param name="path">Full path.</param>
    /// <param name="kind">As it was recognised.</param>
    /// <param name="writable">Whether it is to be written: then nothing else may have it open.</param>
    /// <exception cref="IOException">qemu-nbd is not there, or cannot serve it; the message goes behind the file's name.</exception>
    public static BlockSource Serve(string path, DiskKind kind, bool writable)
    {
        var folder = Directory.CreateTempSubdirectory("moorfield-");
        try
        {
            string socket = Path.Combine(folder.FullName, "disk");
            Start(path, kind, writable, socket);
            return NbdSource.Connect(socket, () => folder.Delete(recursive: true));
        }
        catch
        {
            folder.Delete(recursive: true);
            throw;
        }
    }

    private static void Start(string path, DiskKind kind, bool writable, string socket)
    {
        var start = new ProcessStartInfo("qemu-nbd")
        {
            UseShellExecute = false,
            RedirectStandardError = true,
            RedirectStandardOutput = true,
            RedirectStandardInput = true,
        };
        // In options a comma is written twice.
        string file = path.Replace(",", ",,", StringComparison.Ordinal);
        foreach (string argument in new[]
        {
            "--fork", "--socket=" + socket, "--image-opts", $"driver={kind.ToString().ToLowerInvariant()},file.driver=file,file.filename={file}",
        })
            start.ArgumentList.Add(argument);
        if (!writable)
            start.ArgumentList.Add("--read-only");
        // The server of a command before, or of this one before it writes, ends a little after its connection: its lock is waited for.
        for (int tries = 0; ; tries++)
        {
            using var process = Begin(start);
            process.StandardInput.Close();
            string said = process.StandardError.ReadToEnd();
            if (!process.WaitForExit(Patience))
            {
                process.Kill();
                throw new IOException("could not be opened: qemu-nbd does not come to an end with it");
            }
            if (process.ExitCode == 0)
                return;
            if (!said.Contains("lock", StringComparison.Ordinal) || tries == MostTries)
                throw new IOException(Reason(said));
            Thread.Sleep(Pause);
        }
    }

    private const int MostTries = 20;
    private static readonly TimeSpan Pause = TimeSpan.FromMilliseconds(100);

    private static Process Begin(ProcessStartInfo start)
    {
        try
        {
            return Process.Start(start)!;
        }
        catch (System.ComponentModel.Win32Exception e)
        {
            throw new IOException("is a virtual disk, which qemu-nbd opens. Install the Debian package qemu-utils", e);
        }
    }

    private static string Reason(string said)
    {
        string line = said.Split('\n').FirstOrDefault(l => l.Contains("qemu-nbd:", StringComparison.Ordinal)) ?? said.Split('\n')[0];
        if (line.Contains("lock", StringComparison.Ordinal))
            return "is in use by another program, such as a virtual machine that runs. Shut that down first";
        int at = line.LastIndexOf(": ", StringComparison.Ordinal);
        return $"could not be opened: {(at < 0 ? line : line[(at + 2)..]).TrimEnd('.')}";
    }
}
