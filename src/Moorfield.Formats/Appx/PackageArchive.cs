using System.IO.Compression;
using System.Security.Cryptography;
using System.Xml;
using System.Xml.Linq;

namespace Moorfield.Formats.Appx;

/*
   A package file is a zip (Open Packaging Conventions): names have slashes and %-escapes. AppxBlockMap.xml lists each file with its size and
   the SHA-256 of every 64 KiB of it. A bundle holds package files, stored, each with a block map of its own; its own map has the rest. The
   signature (AppxSignature.p7x) covers the block map; it is not looked at.
*/

/// <summary>
/// An app package or bundle as a file (.msix, .appx, .msixbundle, .appxbundle), whose contents are held against its block map as they are
/// read. Source: docs/on-disk.md, "Package files" [doc].
/// </summary>
public sealed class PackageArchive : IDisposable
{
    /// <summary>Bytes that one hash of the block map covers.</summary>
    public const int BlockSize = 64 << 10;

    private const int MaxFiles = 200_000;
    private const long MaxMap = 256L << 20;

    // Deflate makes of one byte 1,032 at most; what packages hold is made a few times smaller by it.
    private const long FreeBytes = 64L << 20;
    private const int MaxRatio = 200;
    private const string BlockMap = "AppxBlockMap.xml";
    private const string ManifestName = "AppxManifest.xml";
    private const string BundleManifestName = @"AppxMetadata\AppxBundleManifest.xml";

    // Not in the block map: what makes up the package file itself, and signatures.
    private static readonly string[] Unmapped = [BlockMap, "[Content_Types].xml", "AppxSignature.p7x", @"AppxMetadata\CodeIntegrity.cat"];

    private readonly ZipArchive _zip;
    private readonly Stream? _stream;
    private readonly Dictionary<string, ZipArchiveEntry> _entries = new(StringComparer.OrdinalIgnoreCase);
    private readonly Dictionary<string, MappedEntry> _mapped = new(StringComparer.OrdinalIgnoreCase);

    private sealed record MappedEntry(long Size, ImmutableArray<string> Hashes);

    private PackageArchive(ZipArchive zip, Stream? stream)
    {
        _zip = zip;
        _stream = stream;
    }

    /// <summary>Of a package; null for a bundle.</summary>
    public AppxManifest? Manifest { get; private set; }

    /// <summary>Of a bundle; null for a package.</summary>
    public AppxBundleManifest? Bundle { get; private set; }

    /// <summary>Paths of the files that a staged package has, with backslashes; of a bundle without its members.</summary>
    public IEnumerable<(string Path, long Size, DateTimeOffset Time)> Files => _entries
        .Where(e => !e.Key.Equals(Unmapped[1], StringComparison.OrdinalIgnoreCase) && !IsMember(e.Key))
        .Select(e => (e.Key, e.Value.Length, e.Value.LastWriteTime)).OrderBy(e => e.Key, StringComparer.OrdinalIgnoreCase);

    /// <summary>True if a file's name is that of a package file.</summary>
    public static bool HasPackageExtension(string path) =>
        Path.GetExtension(path).ToUpperInvariant() is ".MSIX" or ".APPX" or ".MSIXBUNDLE" or ".APPXBUNDLE";

    /// <summary>Opens a package file.</summary>
    /// <param name="stream">Seekable; taken over.</param>
    /// <exception cref="InvalidDataException">Not one, encrypted, or damaged; the message is a sentence without its subject.</exception>
    public static PackageArchive Open(Stream stream)
    {
        ZipArchive zip;
        try
        {
            zip = new ZipArchive(stream, ZipArchiveMode.Read, leaveOpen: false, Encoding.UTF8);
            _ = zip.Entries.Count;
        }
        catch (Exception e) when (e is InvalidDataException or NotSupportedException or EndOfStreamException or OverflowException)
        {
            stream.Dispose();
            throw new InvalidDataException("is not an app package: it is not a zip file, or is damaged", e);
        }
        var archive = new PackageArchive(zip, stream);
        try
        {
            archive.Read();
            return archive;
        }
        catch
        {
            archive.Dispose();
            throw;
        }
    }

    private void Read()
    {
        if (_zip.Entries.Count > MaxFiles)
            throw new InvalidDataException($"holds more than {MaxFiles:N0} files");
        foreach (var entry in _zip.Entries.Where(e => !e.FullName.EndsWith('/')))
        {
            string path = Decoded(entry.FullName);
            if (!_entries.TryAdd(path, entry))
                throw new InvalidDataException($"holds '{path}' twice");
        }
        CheckSizes();
        ReadMap();
        if (_entries.ContainsKey(BundleManifestName))
        {
            using var bundle = OpenFile(BundleManifestName);
            Bundle = AppxManifestReader.ReadBundle(bundle);
        }
        else if (_entries.ContainsKey(ManifestName))
        {
            using var manifest = OpenFile(ManifestName);
            Manifest = AppxManifestReader.Read(manifest);
        }
        else
        {
            throw new InvalidDataException("is not an app package: it has no manifest");
        }
        foreach (string path in _entries.Keys.Where(p => !_mapped.ContainsKey(p) && !IsMember(p)
            && !Unmapped.Contains(p, StringComparer.OrdinalIgnoreCase)))
            throw new InvalidDataException($"holds '{path}', which its block map does not have");
        foreach (var (path, mapped) in _mapped)
        {
            if (!_entries.TryGetValue(path, out var entry) || entry.Length != mapped.Size)
                throw new InvalidDataException($"does not hold '{path}' as its block map has it");
        }
    }

    /// <summary>Before anything is unpacked: what it would become, and names that exclude each other.</summary>
    private void CheckSizes()
    {
        long whole = 0, stored = 0;
        foreach (var (path, entry) in _entries)
        {
            if (entry.Length < 0 || entry.CompressedLength < 0 || entry.Length > long.MaxValue - whole)
                throw new InvalidDataException($"holds '{path}' with an absurd length");
            whole += entry.Length;
            stored += Math.Min(entry.CompressedLength, _stream!.Length);
            for (int cut = path.IndexOf('\\', StringComparison.Ordinal); cut >= 0; cut = path.IndexOf('\\', cut + 1))
            {
                if (_entries.ContainsKey(path[..cut]))
                    throw new InvalidDataException($"holds '{path[..cut]}' as a file and as a folder");
            }
        }
        if (whole > FreeBytes && whole / MaxRatio > Math.Min(stored, _stream!.Length))
            throw new InvalidDataException($"would unpack to {whole:N0} bytes, more than {MaxRatio} times what it has, which no package does");
    }

    private static Stream Open(ZipArchiveEntry entry, string path)
    {
        try
        {
            return entry.Open();
        }
        catch (Exception e) when (e is InvalidDataException or IOException or ArgumentException or NotSupportedException or OverflowException)
        {
            throw new InvalidDataException($"is damaged: '{path}' cannot be unpacked", e);
        }
    }

    private bool IsMember(string path) => Bundle?.Members.Any(m => m.FileName.Equals(path, StringComparison.OrdinalIgnoreCase)) == true;

    /// <summary>A name of the zip as a path: nothing in it may lead elsewhere.</summary>
    private static string Decoded(string name)
    {
        string path = Uri.UnescapeDataString(name).Replace('/', '\\');
        foreach (string part in path.Split('\\'))
        {
            if (part.Length is 0 or > 255 || part is "." or ".." || part.AsSpan().ContainsAny(":*?\"<>|")
                || part.AsSpan().ContainsAnyInRange('\0', '\u001f') || part[^1] is ' ' or '.' || IsReserved(part))
                throw new InvalidDataException($"holds a file with a name that none can have: '{path.ReplaceLineEndings(" ")}'");
        }
        return path;
    }

    /// <summary>True if Windows means a device by a name, with whatever ending. Source: Win32, "Naming Files, Paths, and Namespaces".</summary>
    private static bool IsReserved(string name)
    {
        string stem = name.Split('.')[0].TrimEnd(' ').ToUpperInvariant();
        return stem is "CON" or "PRN" or "AUX" or "NUL" or "CONIN$" or "CONOUT$"
            || (stem.Length == 4 && (stem.StartsWith("COM", StringComparison.Ordinal) || stem.StartsWith("LPT", StringComparison.Ordinal))
                && "0123456789\u00b9\u00b2\u00b3".Contains(stem[3], StringComparison.Ordinal));
    }

    private void ReadMap()
    {
        if (!_entries.TryGetValue(BlockMap, out var entry))
            throw new InvalidDataException("is not an app package: it has no block map");
        if (entry.Length > MaxMap)
            throw new InvalidDataException("has a block map longer than any");
        XElement root;
        try
        {
            using var stream = Open(entry, BlockMap);
            using var reader = new DepthLimitedReader(XmlReader.Create(stream, new XmlReaderSettings
            {
                DtdProcessing = DtdProcessing.Prohibit, XmlResolver = null, MaxCharactersInDocument = MaxMap, IgnoreComments = true,
                IgnoreWhitespace = true,
            }), AppxManifestReader.MaxDepth);
            root = XElement.Load(reader);
        }
        catch (XmlException e)
        {
            throw new InvalidDataException("has a block map that is not well-formed XML", e);
        }
        if (root.Name.LocalName != "BlockMap"
            || (string?)root.Attribute("HashMethod") is not (null or "http://www.w3.org/2001/04/xmlenc#sha256"))
            throw new InvalidDataException("has a block map of a kind that is not known");
        foreach (var file in root.Elements().Where(e => e.Name.LocalName == "File"))
        {
            string path = ((string?)file.Attribute("Name") ?? "").Replace('/', '\\');
            ImmutableArray<string> hashes = [.. file.Elements().Where(e => e.Name.LocalName == "Block").Select(e => (string?)e.Attribute("Hash")
                ?? "")];
            if (!long.TryParse((string?)file.Attribute("Size"), out long size) || size < 0 || hashes.Length != (size + BlockSize - 1) / BlockSize
                || !_mapped.TryAdd(path, new MappedEntry(size, hashes)))
                throw new InvalidDataException($"has a block map that does not hold together at '{path}'");
        }
    }

    /// <summary>Opens a file; reading fails where it is not what the block map says.</summary>
    /// <exception cref="InvalidDataException">There is none of that path.</exception>
    public Stream OpenFile(string path)
    {
        if (!_entries.TryGetValue(path, out var entry))
            throw new InvalidDataException($"does not hold '{path}'");
        // What is not in the block map is held to the length that it announces.
        return new MappedStream(Open(entry, path), path, _mapped.TryGetValue(path, out var mapped) ? mapped : new MappedEntry(entry.Length, default));
    }

    /// <summary>Opens a member of a bundle.</summary>
    /// <exception cref="InvalidDataException">It is not there, or is no package file.</exception>
    public PackageArchive OpenMember(BundleMember member)
    {
        if (!_entries.TryGetValue(member.FileName.Replace('/', '\\'), out var entry))
            throw new InvalidDataException($"does not hold its member '{member.FileName}'");
        if (entry.CompressedLength != entry.Length)
            throw new InvalidDataException($"holds its member '{member.FileName}' compressed; in a bundle members are stored as they are");
        // A copy, to be read in any order.
        var copy = new FileStream(TemporaryPath.Combine($"moorfield-member-{Guid.NewGuid():N}"), new FileStreamOptions
        {
            Mode = FileMode.CreateNew, UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite, Access = FileAccess.ReadWrite,
            Options = FileOptions.DeleteOnClose,
        });
        try
        {
            using (var content = new MappedStream(Open(entry, member.FileName), member.FileName, new MappedEntry(entry.Length, default)))
                content.CopyTo(copy);
            copy.Position = 0;
            return Open(copy);
        }
        catch
        {
            copy.Dispose();
            throw;
        }
    }

    public void Dispose()
    {
        _zip.Dispose();
        _stream?.Dispose();
    }

    /// <summary>A content that is held against its block map while it is read.</summary>
    private sealed class MappedStream(Stream inner, string path, MappedEntry mapped) : ForwardStream
    {
        private readonly byte[] _block = new byte[BlockSize];
        private int _at;
        private int _filled;
        private int _number;
        private long _read;

        public override int Read(Span<byte> buffer)
        {
            if (_at == _filled && !Fill())
                return 0;
            int count = Math.Min(buffer.Length, _filled - _at);
            _block.AsSpan(_at, count).CopyTo(buffer);
            _at += count;
            return count;
        }

        private bool Fill()
        {
            (_at, _filled) = (0, 0);
            try
            {
                while (_filled < BlockSize && inner.Read(_block, _filled, BlockSize - _filled) is > 0 and int got)
                    _filled += got;
            }
            catch (Exception e) when (e is InvalidDataException or IOException or NotSupportedException)
            {
                throw new InvalidDataException($"holds '{path}' damaged", e);
            }
            _read += _filled;
            if (_filled == 0)
                return _read == mapped.Size ? false : throw Wrong();
            if (_read > mapped.Size)
                throw Wrong();
            if (!mapped.Hashes.IsDefault && (_number >= mapped.Hashes.Length
                || Convert.ToBase64String(SHA256.HashData(_block.AsSpan(0, _filled))) != mapped.Hashes[_number++]))
                throw Wrong();
            return true;
        }

        private InvalidDataException Wrong() => new($"holds '{path}' otherwise than its block map or its list of files says");

        protected override void Dispose(bool disposing)
        {
            if (disposing)
                inner.Dispose();
            base.Dispose(disposing);
        }
    }
}
