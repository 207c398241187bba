using System.Buffers;

namespace Moorfield.Formats.Ntfs;

// Looking at files and reading them.
public sealed unsafe partial class NtfsVolume
{
    private const uint StandardInformation = 0x10, Data = 0x80, IndexRoot = 0x90;
    private const int MaxReparse = 16 << 10;
    private const int MaxStreams = 4096;
    private const int MaxAtOnce = 1 << 18;

    /// <summary>Looks at a file or folder.</summary>
    /// <exception cref="InvalidDataException">It is damaged.</exception>
    public NtfsFileInfo Look(ulong reference) => Locked(() => WithInode(reference, Look));

    private NtfsFileInfo Look(nint inode)
    {
        var search = BeginSearch(inode);
        try
        {
            if (!Next(search, StandardInformation, null))
                throw Failed("a file has no times");
            var standard = Resident(search);
            if (standard.Length < 36)
                throw new InvalidDataException("is damaged: a file has no times");
            var times = Times(standard);
            var attributes = (FileAttributes)BinaryPrimitives.ReadUInt32LittleEndian(standard[32..]);
            LibNtfs.RestartSearch(search);
            long size = Next(search, Data, "") ? DataSize(search) : -1;
            bool isFolder = false;
            if (size < 0)
            {
                LibNtfs.RestartSearch(search);
                isFolder = Next(search, IndexRoot, "$I30");
            }
            int links = BinaryPrimitives.ReadUInt16LittleEndian(new ReadOnlySpan<byte>((byte*)search->Record + 18, 2));
            uint tag = 0;
            WofForm? wof = null;
            if (attributes.HasFlag(FileAttributes.ReparsePoint) && Reparse(inode) is { Length: >= 8 } reparse)
            {
                tag = BinaryPrimitives.ReadUInt32LittleEndian(reparse);
                wof = Wof.FormOf(reparse);
            }
            return new NtfsFileInfo(isFolder, attributes, tag, Math.Max(size, 0), times, links, wof);
        }
        finally
        {
            LibNtfs.EndSearch(search);
        }
    }

    private static NtfsTimes Times(ReadOnlySpan<byte> standard) => new(
        BinaryPrimitives.ReadInt64LittleEndian(standard), BinaryPrimitives.ReadInt64LittleEndian(standard[8..]),
        BinaryPrimitives.ReadInt64LittleEndian(standard[16..]), BinaryPrimitives.ReadInt64LittleEndian(standard[24..]));

    /// <summary>Reads a file's content as a program of Windows would.</summary>
    /// <param name="take">Given the content in pieces, in its order.</param>
    /// <exception cref="InvalidDataException">It is damaged, or cannot be read: encrypted, or only a placeholder.</exception>
    public void Read(ulong reference, ReadOnlySpanAction take)
    {
        var info = Look(reference);
        if (info.Wof is { } form)
            Wof.Read(form, info.Size, StreamLength(reference, Wof.StreamName), (at, into) => ReadStream(reference, Wof.StreamName, at, into), take);
        else
            ReadStream(reference, "", take);
    }

    /// <summary>Reads a stream as it is stored, in pieces.</summary>
    /// <param name="name">Empty for the unnamed one.</param>
    /// <exception cref="InvalidDataException">It is damaged, or is not there.</exception>
    public void ReadStream(ulong reference, string name, ReadOnlySpanAction take)
    {
        _ = Locked(() => WithInode(reference, inode => WithStream(inode, name, attribute =>
        {
            long length = StreamLength(inode, name);
            byte[] piece = ArrayPool<byte>.Shared.Rent((int)Math.Min(MaxAtOnce, Math.Max(1, length)));
            try
            {
                for (long at = 0; at < length;)
                {
                    int count = (int)Math.Min(piece.Length, length - at);
                    ReadFully(attribute, at, piece.AsSpan(0, count));
                    take(piece.AsSpan(0, count));
                    at += count;
                }
            }
            finally
            {
                ArrayPool<byte>.Shared.Return(piece);
            }
            return true;
        })));
    }

    private void ReadStream(ulong reference, string name, long at, byte[] into) => Locked(() => WithInode(reference, inode => WithStream(inode, name,
        attribute =>
        {
            ReadFully(attribute, at, into);
            return true;
        })));

    /// <summary>Bytes of a stream as it is stored; 0 when it is not there.</summary>
    public long StreamLength(ulong reference, string name) => Locked(() => WithInode(reference, inode => StreamLength(inode, name)));

    private long StreamLength(nint inode, string name)
    {
        var search = BeginSearch(inode);
        try
        {
            return Next(search, Data, name) ? DataSize(search) : 0;
        }
        finally
        {
            LibNtfs.EndSearch(search);
        }
    }

    private void ReadFully(nint attribute, long at, Span<byte> into)
    {
        fixed (byte* bytes = into)
        {
            for (int done = 0; done < into.Length;)
            {
                long got = LibNtfs.ReadAttribute(attribute, at + done, into.Length - done, bytes + done);
                if (got <= 0)
                    throw Failed("a file cannot be read to its end");
                done += (int)got;
            }
        }
    }

    private T WithStream<T>(nint inode, string name, Func<nint, T> use)
    {
        nint attribute;
        fixed (char* text = name)
            attribute = LibNtfs.OpenAttribute(inode, Data, name.Length == 0 ? (char*)LibNtfs.Known.Value.Unnamed : text, (uint)name.Length);
        if (attribute == 0)
            throw Failed("a stream cannot be opened");
        try
        {
            return use(attribute);
        }
        finally
        {
            LibNtfs.CloseAttribute(attribute);
        }
    }

    /// <summary>The data of a reparse point, with its head; null when it has none.</summary>
    private byte[]? Reparse(nint inode) => Value((value, size) => LibNtfs.GetReparseData(inode, value, size), MaxReparse);

    private delegate int GetValue(byte* value, nuint size);

    private static byte[]? Value(GetValue get, int most)
    {
        int length = get(null, 0);
        if (length <= 0 || length > most)
            return null;
        byte[] value = new byte[length];
        fixed (byte* bytes = value)
            return get(bytes, (nuint)length) == length ? value : null;
    }

    // ---- attributes of a file's record

    private LibNtfs.SearchContext* BeginSearch(nint inode)
    {
        var search = LibNtfs.BeginSearch(inode, 0);
        return search is null ? throw Failed("a file cannot be looked at") : search;
    }

    private static bool Next(LibNtfs.SearchContext* search, uint type, string? name)
    {
        if (name is null)
            return LibNtfs.FindAttribute(type, null, 0, 0, 0, 0, 0, search) == 0;
        fixed (char* text = name)
        {
            return LibNtfs.FindAttribute(
                type, name.Length == 0 ? (char*)LibNtfs.Known.Value.Unnamed : text, (uint)name.Length, 0, 0, 0, 0, search) == 0;
        }
    }

    /// <summary>A copy of a resident attribute's value; null when there is none.</summary>
    private byte[]? Find(nint inode, uint type, string? name)
    {
        var search = BeginSearch(inode);
        try
        {
            return Next(search, type, name) ? Resident(search).ToArray() : null;
        }
        finally
        {
            LibNtfs.EndSearch(search);
        }
    }

    /// <summary>The attribute that was found, from its first byte.</summary>
    private static ReadOnlySpan<byte> Attribute(LibNtfs.SearchContext* search)
    {
        var head = new ReadOnlySpan<byte>(search->Attribute, 16);
        uint length = BinaryPrimitives.ReadUInt32LittleEndian(head[4..]);
        return length is < 24 or > 65536 ? throw new InvalidDataException("is damaged: an attribute of a file has an absurd length")
            : new ReadOnlySpan<byte>(search->Attribute, (int)length);
    }

    private static ReadOnlySpan<byte> Resident(LibNtfs.SearchContext* search)
    {
        var attribute = Attribute(search);
        uint length = BinaryPrimitives.ReadUInt32LittleEndian(attribute[16..]);
        ushort place = BinaryPrimitives.ReadUInt16LittleEndian(attribute[20..]);
        return attribute[8] != 0 || length > attribute.Length - (long)place
            ? throw new InvalidDataException("is damaged: an attribute of a file does not lie in it") : attribute.Slice(place, (int)length);
    }

    private static long DataSize(LibNtfs.SearchContext* search)
    {
        var attribute = Attribute(search);
        if (attribute[8] == 0)
            return Resident(search).Length;
        long size = attribute.Length < 56 ? -1 : BinaryPrimitives.ReadInt64LittleEndian(attribute[48..]);
        return size < 0 ? throw new InvalidDataException("is damaged: a file has an absurd length") : size;
    }
}

/// <summary>Takes a piece of a content.</summary>
public delegate void ReadOnlySpanAction(ReadOnlySpan<byte> piece);
