using System.Runtime.InteropServices;
using System.Security.Cryptography;
using Moorfield.Core.Storage;
using Moorfield.Core.Trees;
using Moorfield.Formats.Native;
using ZstdSharp;

namespace Moorfield.Core.Vaults;

/// <content>Contents, each by the SHA-256 of what it holds; encrypted ones by an HMAC of that.</content>
public sealed partial class Vault
{
    private const string PlainEnding = ".zst";
    private const string SealedEnding = ".sealed";

    /// <summary>Keeps a file's content and gives its SHA-256. Not flushed: <see cref="Begin"/> flushes all.</summary>
    internal string Keep(SafeFileHandle content) => Keep(take => FileContent.ForEachPiece(content, take));

    string IContentStore.Keep(SafeFileHandle file) => Keep(file);

    string IContentStore.Keep(Action<FileContent.Take> pieces) => Keep(pieces);

    /// <summary>Keeps a content that comes in pieces, as <see cref="Keep(SafeFileHandle)"/> does.</summary>
    internal string Keep(Action<FileContent.Take> pieces) => Keep(pieces, _sealing);

    /// <summary>Keeps a content that need not be encrypted, because it is already.</summary>
    internal string KeepAsItIs(SafeFileHandle content) => Keep(take => FileContent.ForEachPiece(content, take), null);

    private string Keep(Action<FileContent.Take> pieces, SealingKey? key)
    {
        var (part, file) = CreatePart();
        using (file)
        {
            try
            {
                string hash = Write(file, part, pieces, key);
                var blob = new BlobFile(hash, key);
                using var shelf = Subfolder(_blobs, blob.Name[..2]);
                // One that is there already is believed only after a look: a power cut may have left it without its content.
                if (IsSound(blob))
                    _blobs.Delete(part);
                else
                    _blobs.Rename(part, blob.FileName, shelf);
                return hash;
            }
            catch (Exception e) when (e is MoorfieldException or IOException or InvalidDataException)
            {
                _blobs.TryDelete(part);
                throw;
            }
        }
    }

    private string Write(SafeFileHandle file, string part, Action<FileContent.Take> pieces, SealingKey? key)
    {
        using var hasher = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        using var output = new InterceptedStream(_blobs, file, part);
        using var sealing = key is null ? null : new SealingStream(output, key, ContentUse);
        using (var compressor = new CompressionStream(sealing ?? (Stream)output, _compressor.Value, preserveCompressor: true, leaveOpen: true))
        {
            pieces(piece =>
            {
                hasher.AppendData(piece);
                compressor.Write(piece);
            });
        }
        sealing?.Finish();
        return Convert.ToHexStringLower(hasher.GetHashAndReset());
    }

    /// <summary>Makes a file for a content that is being written, locked as long as it is open: what is not locked was left by an interrupted
    /// run.</summary>
    private (string Name, SafeFileHandle File) CreatePart()
    {
        while (true)
        {
            string name = PartPrefix + Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(PartDigits / 2));
            var file = _blobs.CreateFile(name, Folder.PrivateMode);
            // Not every file system has locks; where it has, another process may have taken this one for a left one before it was locked.
            if (LibC.Lock(file, LibC.LockExclusive | LibC.LockNonBlocking) == 0 ? _blobs.Stat(name) is not null
                : Marshal.GetLastPInvokeError() != LibC.EAGAIN)
                return (name, file);
            file.Dispose();
        }
    }

    /// <summary>
    /// Every content that a document may need, read or not: each word of 64 hexadecimal digits in it. Deletion goes by this, so that no kind of
    /// record can be forgotten, and a document that cannot be read protects its contents as well.
    /// </summary>
    /// <exception cref="MoorfieldException">Not one byte of it can be read.</exception>
    internal HashSet<string> NamedContents(int number)
    {
        var names = new HashSet<string>(StringComparer.Ordinal);
        using var file = _points.OpenFile(DocumentName(number))
            ?? throw new MoorfieldException(ErrorKind.Failed, $"Restore point {number} in {FullPath} cannot be read.");
        const int Digits = 2 * SHA256.HashSizeInBytes;
        int run = 0;
        var word = new char[Digits];
        try
        {
            FileContent.ForEachPiece(file, piece =>
            {
                foreach (byte b in piece)
                {
                    if (b is (>= (byte)'0' and <= (byte)'9') or (>= (byte)'a' and <= (byte)'f'))
                    {
                        if (run < Digits)
                            word[run] = (char)b;
                        run++;
                        continue;
                    }
                    if (run == Digits)
                        names.Add(new string(word));
                    run = 0;
                }
            });
        }
        catch (IOException e)
        {
            throw new MoorfieldException(ErrorKind.Failed, $"Restore point {number} in {FullPath} cannot be read: {e.Message}", e);
        }
        return names;
    }

    /// <summary>A content's file in the vault.</summary>
    /// <param name="Hash">SHA-256 of the content.</param>
    /// <param name="Key">That it is encrypted under; null when it is not.</param>
    private sealed record BlobFile(string Hash, SealingKey? Key)
    {
        /// <summary>As documents name it.</summary>
        internal string Name { get; } = Key?.NameOf(Hash) ?? Hash;

        internal string FileName => Name + (Key is null ? PlainEnding : SealedEnding);
    }

    /// <summary>Finds the file of a content: encrypted under the key of this run, in clear, or encrypted under another key that was opened.</summary>
    /// <returns>Null when the vault has no such content, or no key to it.</returns>
    private BlobFile? FindFile(string hash)
    {
        if (!IsHash(hash))
            return null;
        return (_sealing is { } own ? [own] : Enumerable.Empty<SealingKey?>()).Append(null).Concat(_keys.Values.Where(k => k != _sealing))
            .Select(key => new BlobFile(hash, key)).FirstOrDefault(IsThere);
    }

    private bool IsThere(BlobFile blob)
    {
        using var shelf = _blobs.OpenFolder(blob.Name[..2]);
        return shelf?.Stat(blob.FileName) is not null;
    }

    /// <summary>The content kept under a SHA-256. Reading to the end fails when it is not that content any more.</summary>
    /// <exception cref="MoorfieldException">It is not in the vault.</exception>
    internal Stream OpenBlob(string hash) => (FindFile(hash) is { } blob ? Open(blob) : null)
        ?? throw new MissingContentException(hash, $"The vault {FullPath} has lost the content {hash}.");

    private VerifyingStream? Open(BlobFile blob)
    {
        using var shelf = _blobs.OpenFolder(blob.Name[..2]);
        if (shelf?.OpenFile(blob.FileName) is not { } file)
            return null;
        Stream stored = new FileStream(file, FileAccess.Read, bufferSize: 0);
        try
        {
            stored = blob.Key is null ? stored : new OpeningStream(stored, blob.Key, ContentUse);
            return new VerifyingStream(new DecompressionStream(stored, leaveOpen: false), blob.Hash);
        }
        catch (InvalidDataException e)
        {
            stored.Dispose();
            throw VerifyingStream.Damaged(blob.Hash, e);
        }
    }

    internal byte[] ReadBlob(string hash)
    {
        using var stream = OpenBlob(hash);
        var content = new MemoryStream();
        stream.CopyTo(content);
        return content.ToArray();
    }

    internal bool HasBlob(string hash) => FindFile(hash) is not null;

    /// <summary>True if a text is a SHA-256 as the vault writes it.</summary>
    internal static bool IsHash(string text) => text.Length == 2 * SHA256.HashSizeInBytes && text.All(char.IsAsciiHexDigitLower);

    /// <summary>True if a content is there and is what its name says. All of it is read.</summary>
    internal bool IsSound(string hash) => FindFile(hash) is { } blob && IsSound(blob);

    private bool IsSound(BlobFile blob)
    {
        try
        {
            using var stream = Open(blob);
            stream?.CopyTo(Stream.Null);
            return stream is not null;
        }
        catch (MoorfieldException)
        {
            return false;
        }
    }

    /// <summary>True if an encrypted content is there and whole, as far as that shows without its key. All of it is read.</summary>
    /// <param name="name">As documents name it.</param>
    internal bool IsWhole(string name)
    {
        using var shelf = IsHash(name) ? _blobs.OpenFolder(name[..2]) : null;
        if (shelf?.OpenFile(name + SealedEnding) is not { } file)
            return IsSound(name);
        using var stream = new FileStream(file, FileAccess.Read, bufferSize: 0);
        return SealedFormat.IsWhole(stream);
    }

    /// <summary>
    /// Contents, each with the digest that it is named after, and parts of such; null for those. A foreign file is not one.
    /// </summary>
    internal IEnumerable<(string Path, string? Hash, long Bytes)> Files()
    {
        foreach (var (shelf, isFolder) in _blobs.Entries())
        {
            if (IsPart(shelf))
                yield return (shelf, null, _blobs.Stat(shelf)?.Size ?? 0);
            using var folder = isFolder == false || shelf.Length != 2 ? null : _blobs.OpenFolder(shelf);
            foreach (string name in folder?.Names() ?? [])
            {
                string hash = name.EndsWith(PlainEnding, StringComparison.Ordinal) ? name[..^PlainEnding.Length]
                    : name.EndsWith(SealedEnding, StringComparison.Ordinal) ? name[..^SealedEnding.Length] : "";
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
