namespace Moorfield.Formats.Media;

/// <summary>
/// An ISO file: what its UDF view holds, or, where it has none, its Joliet or ISO 9660 view; and how it starts a machine. UDF comes first,
/// because the other views of such media often hold a README only, and give files over 4 GiB a wrong size. Everything in it is untrusted.
/// </summary>
public sealed class Medium
{
    /// <summary>Bytes in a block.</summary>
    public const int BlockSize = 2048;

    internal const int FirstDescriptor = 16;

    /// <summary>Vendor's media have some thousand entries.</summary>
    internal const int MaxEntries = 200_000;

    internal const int MaxDepth = 64;

    private Medium(string label, string view, ImmutableArray<MediumEntry> entries, ImmutableArray<BootEntry> boot, ImmutableArray<string> views)
    {
        Label = label;
        View = view;
        Entries = entries;
        Boot = boot;
        Views = views;
    }

    /// <summary>The label that people see when the medium is inserted.</summary>
    public string Label { get; }

    /// <summary>The view that was read: UDF, Joliet or ISO 9660.</summary>
    public string View { get; }

    /// <summary>All views that it has.</summary>
    public ImmutableArray<string> Views { get; }

    /// <summary>Files and folders, each folder before what is in it.</summary>
    public ImmutableArray<MediumEntry> Entries { get; }

    /// <summary>How it starts, in the order of its boot catalogue.</summary>
    public ImmutableArray<BootEntry> Boot { get; }

    /// <summary>True if a file begins like an ISO: with a volume descriptor in block 16.</summary>
    public static bool Is(SafeFileHandle file)
    {
        Span<byte> start = stackalloc byte[7];
        return RandomAccess.Read(file, start, (long)FirstDescriptor * BlockSize) == start.Length
            && (start[1..6].SequenceEqual("CD001"u8) || start[1..6].SequenceEqual("BEA01"u8));
    }

    /// <summary>Reads what a medium holds.</summary>
    /// <exception cref="InvalidDataException">None, damaged or interrupted, or of a kind that is not understood.</exception>
    public static Medium Read(SafeFileHandle file)
    {
        var blocks = new MediumBlocks(file);
        var descriptors = IsoDescriptors.Read(blocks);
        var boot = descriptors.BootCatalogue is { } catalogue ? BootCatalogue.Read(blocks, catalogue) : [];
        var views = ImmutableArray.CreateBuilder<string>();
        if (descriptors.HasUdf)
            views.Add("UDF");
        if (descriptors.Joliet is not null)
            views.Add("Joliet");
        if (descriptors.Primary is not null)
            views.Add("ISO 9660");
        if (descriptors.HasUdf)
        {
            var volume = UdfVolume.Read(blocks);
            return new Medium(volume.Label, "UDF", volume.Entries, boot, views.ToImmutable());
        }
        if ((descriptors.Joliet ?? descriptors.Primary) is not { } root)
            throw new InvalidDataException("has neither a UDF nor an ISO 9660 view");
        bool joliet = descriptors.Joliet is not null;
        return new Medium(root.Label, joliet ? "Joliet" : "ISO 9660", IsoFolders.Read(blocks, root, joliet), boot, views.ToImmutable());
    }

    /// <summary>The entry of a path, in any case; null when there is none.</summary>
    public MediumEntry? Find(string path) => Entries.FirstOrDefault(e => e.Path.Equals(path, StringComparison.OrdinalIgnoreCase));
}

/// <summary>
/// The stretches in which the folders of one view lie. Each is read once: folders that claim the same bytes, or more of them than all that a
/// medium could list, are damage.
/// </summary>
internal sealed class FolderSpace
{
    /// <summary>200,000 entries take some 20 MB.</summary>
    internal const long MaxBytes = 32L << 20;

    private readonly SortedList<long, long> _ends = [];
    private long _total;

    /// <summary>Takes a stretch for a folder.</summary>
    /// <param name="block">Where it begins.</param>
    /// <param name="length">In bytes.</param>
    /// <exception cref="InvalidDataException">Another folder has some of it, or all have more than there could be.</exception>
    internal void Claim(long block, long length, string what)
    {
        if (length <= 0)
            return;
        long end = block + ((length + Medium.BlockSize - 1) / Medium.BlockSize);
        int after = Search(block);
        if ((after > 0 && _ends.Values[after - 1] > block) || (after < _ends.Count && _ends.Keys[after] < end))
            throw new InvalidDataException($"is damaged: {what} lies where another folder does");
        if ((_total += length) > MaxBytes)
            throw new InvalidDataException("is damaged: its folders have more bytes than they could sensibly have");
        _ends.Add(block, end);
    }

    /// <summary>How many stretches begin before a block.</summary>
    private int Search(long block)
    {
        int low = 0, high = _ends.Count;
        while (low < high)
        {
            int middle = (low + high) / 2;
            if (_ends.Keys[middle] < block)
                low = middle + 1;
            else
                high = middle;
        }
        return low;
    }
}

/// <summary>Blocks of a medium, each read checked against its length.</summary>
internal sealed class MediumBlocks(SafeFileHandle file)
{
    /// <summary>Most bytes that one folder or table may have.</summary>
    private const long MaxBytes = 64L << 20;

    internal long Length { get; } = RandomAccess.GetLength(file);

    internal uint Count => (uint)Math.Min(Length / Medium.BlockSize, uint.MaxValue);

    /// <exception cref="InvalidDataException">It lies outside of the file.</exception>
    internal byte[] Read(long block, long length, string what)
    {
        if (length is < 0 or > MaxBytes)
            throw new InvalidDataException($"is damaged: {what} has {length:N0} bytes, more than it could sensibly have");
        CheckInside(block, length, what);
        byte[] bytes = new byte[length];
        for (int done = 0; done < bytes.Length;)
        {
            int got = RandomAccess.Read(file, bytes.AsSpan(done), (block * Medium.BlockSize) + done);
            if (got == 0)
                throw new InvalidDataException($"is cut off: {what} goes beyond its end");
            done += got;
        }
        return bytes;
    }

    /// <exception cref="InvalidDataException">It lies outside of the file.</exception>
    internal void CheckInside(long block, long length, string what)
    {
        if (block < 0 || length < 0 || (block * Medium.BlockSize) + length > Length)
            throw new InvalidDataException($"is cut off or damaged: {what} would lie in block {block:N0}, beyond its end");
    }
}
