namespace Moorfield.Formats.Ntfs;

/// <summary>All metadata of a file or folder, without its content and names.</summary>
/// <param name="Security">The security descriptor, self-relative.</param>
/// <param name="Reparse">Reparse data with their head; empty for none.</param>
/// <param name="Extended">Extended attributes as they are stored; empty for none.</param>
/// <param name="ObjectId">16 or 64 bytes; empty for none.</param>
public sealed record NtfsMetadata(uint Attributes, NtfsTimes Times, byte[] Security, byte[] Reparse, byte[] Extended, byte[] ObjectId);

/// <summary>A stream of a file.</summary>
/// <param name="Name">Empty for the unnamed one.</param>
/// <param name="Flags">Of its attribute: 1 compressed, 0x8000 sparse.</param>
public readonly record struct NtfsStream(string Name, long Length, ushort Flags)
{
    /// <summary>The flags that are looked at.</summary>
    public const ushort KnownFlags = Compressed | Sparse;

    /// <summary>Compressed by the file system itself.</summary>
    public const ushort Compressed = 1;

    /// <summary>With stretches of zeroes that take no room.</summary>
    public const ushort Sparse = 0x8000;
}

/// <summary>Gives a stretch of a content.</summary>
public delegate ReadOnlySpan<byte> Stretch(long offset, int length);

// Changing files. Everything goes to the source below.
public sealed unsafe partial class NtfsVolume
{
    private const int MaxValue = 64 << 10;
    private const uint FileMode = 0x8000, FolderMode = 0x4000;
    private const int StandardLength = 36;
    private const int PageSize = 4096;

    /// <summary>All metadata of a file or folder, without its content and names.</summary>
    public NtfsMetadata Facts(ulong reference) => Locked(() => WithInode(reference, inode =>
    {
        byte[] standard = Find(inode, StandardInformation, null) is { Length: >= StandardLength } value ? value
            : throw new InvalidDataException("is damaged: a file has no times");
        return new NtfsMetadata(
            BinaryPrimitives.ReadUInt32LittleEndian(standard.AsSpan(32)), Times(standard),
            Value((bytes, size) => Security(inode, bytes, size), MaxValue) ?? [], Reparse(inode) ?? [],
            Value((bytes, size) => LibNtfs.GetExtendedAttributes(inode, bytes, size), MaxValue) ?? [],
            Value((bytes, size) => LibNtfs.GetObjectId(inode, bytes, size), MaxValue) ?? []);
    }));

    /// <summary>The streams of a file or folder, the unnamed one first if it has one.</summary>
    public ImmutableArray<NtfsStream> Streams(ulong reference) => Locked(() => WithInode(reference, inode =>
    {
        var streams = new List<NtfsStream>();
        var search = BeginSearch(inode);
        try
        {
            while (Next(search, Data, null))
            {
                var attribute = Attribute(search);
                bool continues = attribute[8] != 0 && BinaryPrimitives.ReadInt64LittleEndian(attribute[16..]) != 0;
                if (continues)
                    continue; // a later stretch of a stream that had no room in one record
                int place = BinaryPrimitives.ReadUInt16LittleEndian(attribute[10..]);
                int length = attribute[9] * sizeof(char);
                if (place > attribute.Length - length || streams.Count == MaxStreams)
                    throw new InvalidDataException("is damaged: the streams of a file make no sense");
                ushort flags = (ushort)(BinaryPrimitives.ReadUInt16LittleEndian(attribute[12..]) & NtfsStream.KnownFlags);
                streams.Add(new NtfsStream(Encoding.Unicode.GetString(attribute.Slice(place, length)), DataSize(search), flags));
            }
        }
        finally
        {
            LibNtfs.EndSearch(search);
        }
        return streams.OrderBy(s => s.Name, StringComparer.Ordinal).ToImmutableArray();
    }));

    /// <summary>Makes an empty file or folder.</summary>
    /// <returns>Its reference.</returns>
    public ulong Create(ulong folder, string name, bool isFolder) => Locked(() =>
    {
        nint parent = Open(folder);
        nint inode;
        fixed (char* text = name)
            inode = LibNtfs.Create(parent, 0, text, (byte)name.Length, isFolder ? FolderMode : FileMode);
        if (inode == 0)
        {
            var failure = Failed("a file cannot be made");
            _ = LibNtfs.CloseInode(parent);
            throw failure;
        }
        ulong number = *(ulong*)inode & NtfsName.NumberMask;
        // The child updates its entry in the parent, which must not be open then.
        bool closed = LibNtfs.CloseInode(parent) == 0;
        if (LibNtfs.CloseInode(inode) != 0 || !closed)
            throw Failed("a file cannot be made");
        return number;
    });

    /// <summary>Gives a file one more name.</summary>
    public void Link(ulong file, ulong folder, string name) => Locked(() =>
    {
        nint inode = Open(file);
        nint parent = Open(folder);
        int result;
        fixed (char* text = name)
            result = LibNtfs.Link(inode, parent, text, (byte)name.Length);
        var failure = result == 0 ? null : Failed("a file cannot be given another name");
        bool closed = LibNtfs.CloseInode(parent) == 0 & LibNtfs.CloseInode(inode) == 0;
        return failure is null && closed ? true : throw failure ?? Failed("a file cannot be given another name");
    });

    /// <summary>Takes a name away, and the file or empty folder with the last of its names.</summary>
    public void Delete(ulong file, ulong folder, string name) => Locked(() =>
    {
        nint inode = Open(file);
        nint parent = Open(folder);
        fixed (char* text = name)
            return LibNtfs.Delete(_volume, 0, inode, parent, text, (byte)name.Length) == 0 ? true : throw Failed("a file cannot be removed");
    });

    /// <summary>Gives a name its short form.</summary>
    public void SetShortName(ulong file, ulong folder, string shortName) => Locked(() =>
    {
        nint inode = Open(file);
        nint parent = Open(folder);
        byte[] text = Encoding.UTF8.GetBytes(shortName);
        fixed (byte* bytes = text)
        {
            return LibNtfs.SetShortName(inode, parent, bytes, (nuint)text.Length, 0) == 0 ? true
                : throw Failed("a file cannot be given its short name");
        }
    });

    /// <summary>Gives a file everything in <see cref="Facts"/> except its times and attributes: <see cref="SetStandard"/> comes last.</summary>
    public void SetFacts(ulong file, NtfsMetadata facts) => Locked(() => WithInode(file, inode =>
    {
        Set(facts.Security, (bytes, size) => SetSecurity(inode, bytes, size), "its security descriptor");
        byte[] attributes = BitConverter.GetBytes(facts.Attributes);
        Set(attributes, (bytes, size) => LibNtfs.SetFileAttributes(inode, bytes, size, 0), "its attributes");
        Set(facts.Reparse, (bytes, size) => LibNtfs.SetReparseData(inode, bytes, size, 0), "its reparse data");
        Set(facts.Extended, (bytes, size) => LibNtfs.SetExtendedAttributes(inode, bytes, size, 0), "its extended attributes");
        Set(facts.ObjectId, (bytes, size) => LibNtfs.SetObjectId(inode, bytes, size, 0), "its object identifier");
        return true;
    }));

    private int Security(nint inode, byte* value, nuint size)
    {
        var context = new LibNtfs.SecurityContext { Volume = _volume };
        return LibNtfs.GetSecurity(&context, inode, value, size);
    }

    private int SetSecurity(nint inode, byte* value, nuint size)
    {
        var context = new LibNtfs.SecurityContext { Volume = _volume };
        return LibNtfs.SetSecurity(&context, inode, value, size, 0);
    }

    private void Set(byte[] value, GetValue set, string what)
    {
        if (value.Length == 0)
            return;
        fixed (byte* bytes = value)
        {
            if (set(bytes, (nuint)value.Length) < 0)
                throw Failed($"a file cannot be given {what}");
        }
    }

    /// <summary>Sets the four times and the attributes, past what the library would make of them.</summary>
    public void SetStandard(ulong file, uint attributes, NtfsTimes times) => Locked(() => WithInode(file, inode =>
    {
        byte[] value = new byte[StandardLength];
        foreach (var (time, i) in new[] { times.Created, times.Written, times.Changed, times.Accessed }.Select((t, i) => (t, i)))
            BinaryPrimitives.WriteInt64LittleEndian(value.AsSpan(i * sizeof(long)), time);
        BinaryPrimitives.WriteUInt32LittleEndian(value.AsSpan(32), attributes);
        nint attribute = LibNtfs.OpenAttribute(inode, StandardInformation, (char*)LibNtfs.Known.Value.Unnamed, 0);
        if (attribute == 0)
            throw Failed("a file has no times");
        try
        {
            fixed (byte* bytes = value)
            {
                return LibNtfs.WriteAttribute(attribute, 0, value.Length, bytes) == value.Length ? true
                    : throw Failed("a file cannot be given its times");
            }
        }
        finally
        {
            LibNtfs.CloseAttribute(attribute);
        }
    }));

    /// <summary>Writes a stream that a file that was just made does not have yet, or has empty.</summary>
    /// <param name="read">Fills a buffer from the content, and gives how many bytes there were.</param>
    public void AddStream(ulong file, NtfsStream stream, Func<byte[], int> read) => Locked(() => WithInode(file, inode =>
    {
        fixed (char* text = stream.Name)
        {
            char* name = stream.Name.Length == 0 ? (char*)LibNtfs.Known.Value.Unnamed : text;
            if (stream.Name.Length > 0 && LibNtfs.AddAttribute(inode, Data, name, (byte)stream.Name.Length, null, 0) != 0)
                throw Failed("a stream cannot be made");
            ushort compressed = (ushort)(stream.Flags & NtfsStream.Compressed);
            if (compressed != 0 && LibNtfs.SetAttributeFlags(inode, Data, name, (byte)stream.Name.Length, compressed, compressed) != 0)
                throw Failed("a stream cannot be made");
        }
        return WithStream(inode, stream.Name, attribute =>
        {
            // Made longer without being written, it gets a hole, and the library marks it as sparse.
            bool sparse = (stream.Flags & NtfsStream.Sparse) != 0;
            if (sparse && LibNtfs.TruncateAttribute(attribute, stream.Length) != 0)
                throw Failed("a stream cannot be made as long as it was");
            byte[] piece = new byte[1 << 18];
            long done = 0;
            while (read(piece) is > 0 and int got)
            {
                if (!sparse || piece.AsSpan(0, got).IndexOfAnyExcept((byte)0) >= 0)
                    WriteFully(attribute, done, piece.AsSpan(0, got));
                done += got;
            }
            if ((stream.Flags & NtfsStream.Compressed) != 0 && LibNtfs.FinishCompressed(attribute) != 0)
                throw Failed("a stream cannot be written to its end");
            return done == stream.Length ? true : throw new InvalidDataException("would get a file that is shorter than it should be");
        });
    }));

    /// <summary>Writes into the unnamed stream of a file what differs, in pages, and makes it as long as the new content.</summary>
    /// <param name="length">Bytes of the new content.</param>
    /// <param name="now">A stretch of the new content.</param>
    /// <param name="known">Bytes that are known of what it holds.</param>
    /// <param name="before">A stretch of these.</param>
    public void ReplaceStream(ulong file, long length, Stretch now, long known = 0, Stretch? before = null) =>
        Locked(() => WithInode(file, inode => WithStream(inode, "", attribute =>
    {
        for (long at = 0; at < length; at += PageSize)
        {
            int count = (int)Math.Min(PageSize, length - at);
            if (at + count > known || !before!(at, count).SequenceEqual(now(at, count)))
                WriteFully(attribute, at, now(at, count));
        }
        return LibNtfs.TruncateAttribute(attribute, length) == 0 ? true : throw Failed("a file cannot be made as long as it should be");
    })));

    /// <summary>Gives an empty file a content that is compressed as the Windows Overlay Filter does it.</summary>
    /// <returns>False when it would not get smaller, and nothing was done.</returns>
    public bool AddPacked(ulong file, byte[] content, WofForm form)
    {
        byte[] packed = Wof.Pack(content, form);
        if (packed.Length >= content.Length)
            return false;
        using var nothing = new MemoryStream(content.Length == 0 ? [] : new byte[content.Length]);
        AddStream(file, new NtfsStream("", content.Length, NtfsStream.Sparse), b => nothing.Read(b));
        using var from = new MemoryStream(packed);
        AddStream(file, new NtfsStream(Wof.StreamName, packed.Length, 0), b => from.Read(b));
        Locked(() => WithInode(file, inode =>
        {
            Set(Wof.Reparse(form), (bytes, size) => LibNtfs.SetReparseData(inode, bytes, size, 0), "its reparse data");
            return true;
        }));
        return true;
    }

    /// <summary>Takes the compression of the Windows Overlay Filter off a file, which is empty afterwards.</summary>
    public void Unpack(ulong file) => Locked(() => WithInode(file, inode =>
    {
        fixed (char* text = Wof.StreamName)
        {
            return LibNtfs.RemoveReparseData(inode) == 0
                && LibNtfs.RemoveAttribute(inode, Data, text, (uint)Wof.StreamName.Length) == 0 ? true : throw Failed("a file cannot be unpacked");
        }
    }));

    private void WriteFully(nint attribute, long at, ReadOnlySpan<byte> bytes)
    {
        fixed (byte* from = bytes)
        {
            for (int done = 0; done < bytes.Length;)
            {
                long got = LibNtfs.WriteAttribute(attribute, at + done, bytes.Length - done, from + done);
                if (got <= 0)
                    throw Failed("a file cannot be written");
                done += (int)got;
            }
        }
    }

    private nint Open(ulong reference)
    {
        nint inode = LibNtfs.OpenInode(_volume, reference);
        return inode == 0 ? throw Failed($"file {reference & NtfsName.NumberMask} cannot be opened") : inode;
    }
}
