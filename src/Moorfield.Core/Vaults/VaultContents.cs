using System.Security.Cryptography;
using Microsoft.Win32.SafeHandles;
using Moorfield.Core.Model;
using Moorfield.Core.Trees;
using ZstdSharp;

namespace Moorfield.Core.Vaults;

/// <content>Contents, each by the SHA-256 of what it holds.</content>
public sealed partial class Vault
{
    /// <summary>Keeps a file's content and gives its SHA-256. Not flushed: <see cref="Begin"/> flushes all.</summary>
    internal string Keep(SafeFileHandle content) => Keep(take => FileContent.ForEachPiece(content, take));

    /// <summary>Keeps a content that comes in pieces, as <see cref="Keep(SafeFileHandle)"/> does.</summary>
    internal string Keep(Action<FileContent.Take> pieces)
    {
        string part = $"{PartPrefix}{Environment.ProcessId}";
        if (_blobs.Stat(part) is not null)
            _blobs.Delete(part);
        string hash;
        using (var file = _blobs.CreateFile(part, 0x180))
        {
            using var hasher = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
            using var output = new SeamStream(_blobs, file, part);
            using (var compressor = new CompressionStream(output, _compressor.Value, preserveCompressor: true, leaveOpen: true))
            {
                pieces(piece =>
                {
                    hasher.AppendData(piece);
                    compressor.Write(piece);
                });
            }
            hash = Convert.ToHexStringLower(hasher.GetHashAndReset());
        }
        using var shelf = Subfolder(_blobs, hash[..2]);
        string name = BlobName(hash);
        // One that is there already is believed only after a look: a power cut may have left it without its content.
        if (IsSound(hash))
            _blobs.Delete(part);
        else
            _blobs.Rename(part, name, shelf);
        return hash;
    }

    /// <summary>The content kept under a SHA-256. Reading to the end fails when it is not that content any more.</summary>
    /// <exception cref="MoorfieldException">It is not in the vault.</exception>
    internal Stream OpenBlob(string hash)
    {
        using var shelf = IsHash(hash) ? _blobs.OpenFolder(hash[..2]) : null;
        var file = shelf?.OpenFile(BlobName(hash))
            ?? throw new LostContentException(hash, $"The vault {FullPath} has lost the content {hash}.");
        return new VerifyingStream(new DecompressionStream(new FileStream(file, FileAccess.Read, bufferSize: 0), leaveOpen: false), hash);
    }

    internal byte[] ReadBlob(string hash)
    {
        using var stream = OpenBlob(hash);
        var content = new MemoryStream();
        stream.CopyTo(content);
        return content.ToArray();
    }

    internal bool HasBlob(string hash)
    {
        using var shelf = IsHash(hash) ? _blobs.OpenFolder(hash[..2]) : null;
        return shelf?.Stat(BlobName(hash)) is not null;
    }

    /// <summary>Whether a text is a SHA-256 as the vault writes it.</summary>
    internal static bool IsHash(string text) => text.Length == 2 * SHA256.HashSizeInBytes && text.All(char.IsAsciiHexDigitLower);

    private static string BlobName(string hash) => hash + ".zst";

    /// <summary>Bytes that a content takes; null when it is not there.</summary>
    internal long? StoredSize(string hash)
    {
        using var shelf = IsHash(hash) ? _blobs.OpenFolder(hash[..2]) : null;
        return shelf?.Stat(BlobName(hash))?.Size;
    }

    /// <summary>Whether a content is there and is what its name says. All of it is read.</summary>
    internal bool IsSound(string hash)
    {
        if (!HasBlob(hash))
            return false;
        try
        {
            using var stream = OpenBlob(hash);
            stream.CopyTo(Stream.Null);
            return true;
        }
        catch (MoorfieldException)
        {
            return false;
        }
    }

    /// <summary>
    /// Contents, each with the SHA-256 that it is named after, and parts of such; null for those. What somebody else put there is none.
    /// </summary>
    internal IEnumerable<(string Path, string? Hash, long Bytes)> Files()
    {
        foreach (var (shelf, isFolder) in _blobs.Entries())
        {
            if (shelf.StartsWith(PartPrefix, StringComparison.Ordinal))
                yield return (shelf, null, _blobs.Stat(shelf)?.Size ?? 0);
            using var folder = isFolder == false || shelf.Length != 2 ? null : _blobs.OpenFolder(shelf);
            foreach (string name in folder?.Names() ?? [])
            {
                string hash = name.EndsWith(".zst", StringComparison.Ordinal) ? name[..^4] : "";
                if (IsHash(hash) && hash.StartsWith(shelf, StringComparison.Ordinal))
                    yield return ($"{shelf}/{name}", hash, folder!.Stat(name)?.Size ?? 0);
            }
        }
    }

    /// <summary>Bytes of all contents, as stored.</summary>
    public long StoredBytes => Files().Sum(f => f.Bytes);

    /// <summary>Takes a file away from the contents.</summary>
    /// <param name="path">As <see cref="Files"/> gives it.</param>
    internal void DeleteFile(string path)
    {
        int slash = path.IndexOf('/', StringComparison.Ordinal);
        if (slash < 0)
        {
            _blobs.Delete(path);
            return;
        }
        using var shelf = _blobs.OpenFolder(path[..slash]);
        shelf?.Delete(path[(slash + 1)..]);
    }
}
