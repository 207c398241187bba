using System.Buffers.Binary;
using System.Diagnostics;
using Moorfield.Formats.Disks;
using Moorfield.Formats.Disks.BitLocker;
using Moorfield.Formats.Ntfs;

namespace Moorfield.StandIn;

/// <summary>
/// Puts a made-up Windows folder on an NTFS volume as a real one would lie there: app folders compressed by the Windows Overlay Filter, short
/// names, a large stream and a hard link among them.
/// </summary>
public static class DiskBuilder
{
    private static readonly Dictionary<string, string> Packages = new()
    {
        ["mkntfs"] = "ntfs-3g", ["qemu-img"] = "qemu-utils", ["genisoimage"] = "genisoimage", ["mkfs.fat"] = "dosfstools", ["mmd"] = "mtools",
        ["mcopy"] = "mtools", ["wimlib-imagex"] = "wimtools",
    };

    private const long MiB = 1 << 20;
    private const long Room = 24 * MiB;
    private const int SectorSize = 512;
    private const int LargeStream = 100_000;
    private const int MinPacked = 8192;
    private const uint Archive = 0x20;
    private const int MaxShort = 8;

    /// <summary>Makes a virtual disk with one partition.</summary>
    /// <param name="folder">The Windows folder.</param>
    /// <param name="path">The qcow2 file to make.</param>
    /// <exception cref="IOException">A tool is missing (mkntfs of ntfs-3g, qemu-img of qemu-utils), or fails.</exception>
    public static void BuildVirtual(string folder, string path)
    {
        string volume = path + ".part";
        try
        {
            BuildVolume(folder, volume);
            ToVirtual(volume, path);
        }
        finally
        {
            File.Delete(volume);
        }
    }

    /// <summary>Makes a virtual disk with one partition, which is encrypted by BitLocker.</summary>
    /// <param name="folder">The Windows folder.</param>
    /// <param name="path">The qcow2 file to make.</param>
    /// <exception cref="IOException">As for <see cref="BuildVirtual"/>.</exception>
    public static MadeKeys BuildEncrypted(string folder, string path, EncryptionMethod method)
    {
        string volume = path + ".part";
        try
        {
            var keys = BuildEncryptedVolume(folder, volume, method);
            ToVirtual(volume, path);
            return keys;
        }
        finally
        {
            File.Delete(volume);
        }
    }

    /// <summary>Makes a file that is an NTFS volume, encrypted by BitLocker.</summary>
    /// <param name="sectorSize">Bytes of a sector, 512 or 4096.</param>
    public static MadeKeys BuildEncryptedVolume(string folder, string path, EncryptionMethod method, int sectorSize = SectorSize,
        MadeProtectors protectors = MadeProtectors.Usual, int seed = 7)
    {
        string clear = path + ".clear";
        try
        {
            BuildVolume(folder, clear, sectorSize: sectorSize, forBitLocker: true);
            return BitLockerBuilder.Encrypt(clear, path, method, sectorSize, protectors, seed);
        }
        finally
        {
            File.Delete(clear);
        }
    }

    private static void ToVirtual(string volume, string path)
    {
        string disk = path + ".raw";
        try
        {
            Partitioned(volume, disk);
            Run("qemu-img", "convert", "-q", "-f", "raw", "-O", "qcow2", disk, path);
        }
        finally
        {
            File.Delete(disk);
        }
    }

    /// <summary>Makes a file that is an NTFS volume.</summary>
    /// <param name="clusterSize">Bytes of a cluster, 512 to 65536.</param>
    /// <param name="sectorSize">Bytes of a sector, 512 or 4096.</param>
    /// <param name="forBitLocker">True if it has the files that BitLocker's metadata lie in.</param>
    public static void BuildVolume(string folder, string path, int clusterSize = 4096, int sectorSize = SectorSize, bool forBitLocker = false)
    {
        var files = new DirectoryInfo(folder).EnumerateFiles("*", SearchOption.AllDirectories).Where(f => f.LinkTarget is null).ToList();
        long length = (files.Sum(f => f.Length + clusterSize + 1024) / MiB * MiB) + Room;
        using (var made = File.Create(path))
            made.SetLength(length);
        Run("mkntfs", "-F", "-q", "-Q", "-c", $"{clusterSize}", "-s", $"{sectorSize}", "-p", "0", "-H", "255", "-S", "63", "-L", "Counter", path);
        if (forBitLocker)
            Reserve(path);
        AddTo(folder, path, 0, length);
    }

    /// <summary>Puts the files that BitLocker's metadata lie in on an empty NTFS volume.</summary>
    public static void Reserve(string path) => Change(path, 0, new FileInfo(path).Length, BitLockerBuilder.Reserve);

    /// <summary>Copies a folder onto an NTFS volume that lies in a file.</summary>
    /// <param name="offset">Where the volume begins, in bytes.</param>
    /// <param name="length">Of the volume, in bytes.</param>
    public static void AddTo(string folder, string path, long offset, long length) => Change(path, offset, length, volume =>
    {
        var copy = new Copy(volume);
        copy.Folder(new DirectoryInfo(folder), NtfsVolume.Root, "");
        copy.LinkManifest();
    });

    private static void Change(string path, long offset, long length, Action<NtfsVolume> change)
    {
        var file = File.OpenHandle(path, FileMode.Open, FileAccess.ReadWrite, FileShare.ReadWrite);
        using var whole = new FileSource(file, file.Dispose, offset + length, (at, bytes) => RandomAccess.Write(file, bytes.Span, at), () => { });
        using var volume = NtfsVolume.Mount(new PartSource(whole, offset, length));
        change(volume);
        volume.Unmount();
    }

    /// <summary>Puts a volume on a disk with an MBR partition table, as its first partition.</summary>
    public static void Partitioned(string volume, string disk)
    {
        using var from = File.OpenRead(volume);
        using var to = File.Create(disk);
        byte[] table = new byte[SectorSize];
        var entry = table.AsSpan(446);
        entry[0] = 0x80;
        entry[4] = 7; // NTFS
        BinaryPrimitives.WriteUInt32LittleEndian(entry[8..], (uint)(MiB / SectorSize));
        BinaryPrimitives.WriteUInt32LittleEndian(entry[12..], (uint)(from.Length / SectorSize));
        table[510] = 0x55;
        table[511] = 0xAA;
        to.Write(table);
        to.SetLength(MiB + from.Length + MiB);
        to.Position = MiB;
        byte[] piece = new byte[MiB];
        while (from.Read(piece) is > 0 and int got)
        {
            if (piece.AsSpan(0, got).IndexOfAnyExcept((byte)0) >= 0)
                to.Write(piece, 0, got);
            else
                to.Position += got;
        }
    }

    internal static void Run(string program, params string[] arguments)
    {
        var start = new ProcessStartInfo(program) { UseShellExecute = false, RedirectStandardOutput = true, RedirectStandardError = true };
        foreach (string argument in arguments)
            start.ArgumentList.Add(argument);
        try
        {
            using var process = Process.Start(start)!;
            var output = process.StandardOutput.ReadToEndAsync();
            string said = process.StandardError.ReadToEnd();
            output.Wait();
            process.WaitForExit();
            if (process.ExitCode != 0)
                throw new IOException($"{program} failed: {said.Trim().Split('\n')[^1]}");
        }
        catch (System.ComponentModel.Win32Exception e)
        {
            throw new IOException($"{program} is missing. Install the Debian package {Packages.GetValueOrDefault(program, "with it")}.", e);
        }
    }

    private sealed class Copy(NtfsVolume volume)
    {
        private int _packed;
        private bool _hasLarge;
        private ulong _manifest;

        internal void Folder(DirectoryInfo folder, ulong into, string path)
        {
            var taken = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
            foreach (var entry in folder.EnumerateFileSystemInfos().OrderBy(e => e.Name, StringComparer.Ordinal))
            {
                if (entry.LinkTarget is not null)
                    continue;
                string place = path.Length == 0 ? entry.Name : $@"{path}\{entry.Name}";
                bool isFolder = entry is DirectoryInfo;
                ulong made = volume.Create(into, entry.Name, isFolder);
                if (entry is FileInfo file)
                    Fill(file, made, place);
                if (isFolder && path.Split('\\').Length <= 2)
                    volume.SetShortName(made, into, ShortName(entry.Name, taken));
                if (entry is DirectoryInfo below)
                    Folder(below, made, place);
                long time = entry.LastWriteTimeUtc.ToFileTimeUtc();
                uint attributes = volume.Facts(made).Attributes;
                volume.SetStandard(made, isFolder ? attributes : attributes | Archive, new NtfsTimes(time, time, time, time));
                if (place.StartsWith(@"Program Files\WindowsApps\", StringComparison.Ordinal) && entry.Name == "AppxManifest.xml")
                    _manifest = made;
            }
        }

        private void Fill(FileInfo file, ulong made, string place)
        {
            byte[] content = File.ReadAllBytes(file.FullName);
            bool isApp = place.StartsWith(@"Program Files\WindowsApps\", StringComparison.Ordinal);
            // As Windows does, a file is left alone that would not get smaller.
            bool packed = isApp && content.Length >= MinPacked && _packed % 3 != 2 && volume.AddPacked(made, content, (WofForm)(_packed % 4));
            if (!packed)
            {
                using var from = new MemoryStream(content);
                volume.AddStream(made, new NtfsStream("", content.Length, 0), b => from.Read(b));
            }
            if (isApp)
                _packed++;
            if (!isApp || _hasLarge)
                return;
            _hasLarge = true;
            using var large = new MemoryStream([.. Enumerable.Range(0, LargeStream).Select(i => (byte)(i * 7))]);
            volume.AddStream(made, new NtfsStream("Ferries", LargeStream, 0), b => large.Read(b));
        }

        /// <summary>Gives a file of a package a second name, as most of Windows' own files have.</summary>
        internal void LinkManifest()
        {
            if (_manifest != 0)
                volume.Link(_manifest, volume.List(NtfsVolume.Root).Single(n => n.Text == "Windows").Reference, "SameManifest.xml");
        }

        private static string ShortName(string name, HashSet<string> taken)
        {
            string plain = string.Concat(name.Where(char.IsAsciiLetterOrDigit)).ToUpperInvariant();
            if (name.Length <= MaxShort && plain.Length == name.Length && taken.Add(plain))
                return name;
            for (int i = 1; ; i++)
            {
                string number = i.ToString(CultureInfo.InvariantCulture);
                string made = $"{plain[..Math.Min(plain.Length, MaxShort - 1 - number.Length)]}~{number}";
                if (taken.Add(made))
                    return made;
            }
        }
    }
}
