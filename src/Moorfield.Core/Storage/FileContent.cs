using System.Buffers;
using System.Runtime.InteropServices;
using Moorfield.Formats.Native;
using Moorfield.Formats.Ntfs;
using Moorfield.Formats.Wim;

namespace Moorfield.Core.Storage;

/// <summary>Small helps for contents that are open as files, on a disk or in memory.</summary>
internal static class FileContent
{
    private const int BufferLength = 1 << 20;

    /// <summary>Makes a file in memory with a content.</summary>
    internal static SafeFileHandle InMemory(ReadOnlySpan<byte> content)
    {
        var file = MemoryFile.Create();
        RandomAccess.Write(file, content, 0);
        return file;
    }

    /// <summary>Makes a file in memory with what a stream gives.</summary>
    internal static SafeFileHandle InMemory(Stream content)
    {
        using (content)
        {
            var file = MemoryFile.Create();
            byte[] buffer = new byte[BufferLength];
            long offset = 0;
            while (content.Read(buffer) is > 0 and int got)
            {
                RandomAccess.Write(file, buffer.AsSpan(0, got), offset);
                offset += got;
            }
            return file;
        }
    }

    /// <summary>An open file by another descriptor, to be closed on its own.</summary>
    internal static SafeFileHandle Duplicate(SafeFileHandle file) =>
        LibC.Duplicate(file, LibC.DuplicateCloseOnExec, 0) is { IsInvalid: false } same ? same
            : throw new IOException($"No more files can be opened: {Marshal.GetLastPInvokeErrorMessage()}.");

    /// <summary>A file in memory once more, to be closed on its own.</summary>
    internal static SafeFileHandle Again(SafeFileHandle memory) =>
        RegularFile.Open($"/proc/self/fd/{memory.DangerousGetHandle()}", LibC.ReadOnly)
            ?? throw new IOException($"A file in memory cannot be opened again: {Marshal.GetLastPInvokeErrorMessage()}.");

    /// <summary>The whole content, or its first <paramref name="limit"/> bytes.</summary>
    internal static byte[] ReadAll(SafeFileHandle file, long limit = int.MaxValue)
    {
        byte[] bytes = new byte[Math.Min(RandomAccess.GetLength(file), limit)];
        int done = 0;
        while (done < bytes.Length && RandomAccess.Read(file, bytes.AsSpan(done), done) is > 0 and int got)
            done += got;
        return done == bytes.Length ? bytes : bytes[..done];
    }

    /// <summary>A stretch of a file; shorter where the file ends.</summary>
    internal static byte[] ReadAt(SafeFileHandle file, long offset, int length)
    {
        byte[] bytes = new byte[length];
        int done = 0;
        while (done < length && RandomAccess.Read(file, bytes.AsSpan(done), offset + done) is > 0 and int got)
            done += got;
        return bytes[..done];
    }

    /// <summary>Copies a stretch of a file.</summary>
    /// <param name="length">Bytes; null for all up to the end.</param>
    /// <exception cref="MoorfieldException">The file is shorter.</exception>
    internal static void Copy(string path, Stream to, long offset = 0, long? length = null)
    {
        using var file = File.OpenHandle(path);
        Copy(file, path, to, offset, length ?? (RandomAccess.GetLength(file) - offset));
    }

    /// <summary>Copies a stretch of an open file.</summary>
    /// <param name="name">For messages.</param>
    /// <exception cref="MoorfieldException">The file is shorter.</exception>
    internal static void Copy(SafeFileHandle file, string name, Stream to, long offset, long length)
    {
        byte[] buffer = new byte[BufferLength];
        while (length > 0)
        {
            int got = RandomAccess.Read(file, buffer.AsSpan(0, (int)Math.Min(buffer.Length, length)), offset);
            if (got == 0)
                throw new MoorfieldException(ErrorKind.Failed, $"{name} became shorter while it was read. Nothing was written.");
            to.Write(buffer, 0, got);
            (offset, length) = (offset + got, length - got);
        }
    }

    /// <summary>The SHA-256 in lower-case hexadecimal.</summary>
    /// <param name="report">Called with the bytes that are done, after each piece; null for nobody.</param>
    internal static string HashOf(SafeFileHandle file, Action<long>? report = null)
    {
        using var hash = System.Security.Cryptography.IncrementalHash.CreateHash(System.Security.Cryptography.HashAlgorithmName.SHA256);
        long done = 0;
        ForEachPiece(file, piece =>
        {
            hash.AppendData(piece);
            report?.Invoke(done += piece.Length);
        });
        return Convert.ToHexStringLower(hash.GetHashAndReset());
    }

    internal static bool IsSame(SafeFileHandle left, SafeFileHandle right)
    {
        if (RandomAccess.GetLength(left) != RandomAccess.GetLength(right))
            return false;
        byte[] other = new byte[BufferLength];
        long offset = 0;
        bool same = true;
        ForEachPiece(left, piece =>
        {
            same = same && RandomAccess.Read(right, other.AsSpan(0, piece.Length), offset) == piece.Length
            && piece.SequenceEqual(other.AsSpan(0, piece.Length));
            offset += piece.Length;
        });
        return same;
    }

    internal delegate void Take(ReadOnlySpan<byte> piece);

    internal static void ForEachPiece(SafeFileHandle file, Take take)
    {
        byte[] buffer = ArrayPool<byte>.Shared.Rent((int)Math.Clamp(RandomAccess.GetLength(file), 1, BufferLength));
        try
        {
            long offset = 0;
            while (RandomAccess.Read(file, buffer, offset) is > 0 and int got)
            {
                take(buffer.AsSpan(0, got));
                offset += got;
            }
        }
        finally
        {
            ArrayPool<byte>.Shared.Return(buffer);
        }
    }
}

/// <summary>A content that was read into memory: a small one into an array that is lent, a large one into a file.</summary>
public sealed class InMemoryContent : IDisposable
{
    private const int MaxLent = 1 << 20;

    private readonly SafeFileHandle? _file;
    private byte[]? _lent;

    /// <param name="length">Bytes that there will be.</param>
    /// <param name="read">Gives the content in pieces, in its order.</param>
    /// <exception cref="InvalidDataException">It has more bytes than that.</exception>
    internal InMemoryContent(long length, Action<ReadOnlySpanAction> read)
    {
        try
        {
            if (length <= MaxLent)
                _lent = ArrayPool<byte>.Shared.Rent((int)length);
            else
                _file = MemoryFile.Create();
            read(piece =>
            {
                if (piece.Length > length - Length)
                    throw new InvalidDataException("is damaged: a file is longer than it says");
                if (_lent is not null)
                    piece.CopyTo(_lent.AsSpan((int)Length));
                else
                    RandomAccess.Write(_file!, piece, Length);
                Length += piece.Length;
            });
        }
        catch
        {
            Dispose();
            throw;
        }
    }

    /// <summary>In bytes.</summary>
    public long Length { get; private set; }

    internal void ForEachPiece(FileContent.Take take)
    {
        if (_file is not null)
            FileContent.ForEachPiece(_file, take);
        else
            take(_lent.AsSpan(0, (int)Length));
    }

    public void Dispose()
    {
        _file?.Dispose();
        if (_lent is not null)
            ArrayPool<byte>.Shared.Return(_lent);
        _lent = null;
    }
}

/// <summary>
/// What a file held and what it is to hold. Editions of one image that have the same file and the same changes share one of these.
/// </summary>
internal sealed class PreparedContent(SafeFileHandle before, SafeFileHandle after) : IDisposable
{
    internal SafeFileHandle Before { get; } = before;

    internal SafeFileHandle After { get; } = after;

    /// <summary>The SHA-1 under which an image got the new content; the contents belong to the image then.</summary>
    internal Sha1Hash? AddedAs { get; set; }

    public void Dispose()
    {
        Before.Dispose();
        After.Dispose();
    }
}
