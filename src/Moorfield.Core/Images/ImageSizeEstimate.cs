using Moorfield.Core.Storage;
using Moorfield.Formats.Wim;

namespace Moorfield.Core.Images;

/// <summary>Says how large an image will be with some of its editions, and without what goes from them.</summary>
public static class ImageSizeEstimate
{
    // Metadata is some per cent larger by LZX than by LZMS.
    private const double MetadataGrowth = 1.1;

    /// <param name="editions">Numbers of those that stay.</param>
    /// <param name="trees">Editions and paths in them that go.</param>
    /// <param name="conversion">The compression that contents get instead of their own, as those of an ESD do; null to leave them.</param>
    /// <returns>Bytes.</returns>
    /// <exception cref="MoorfieldException">The image is damaged.</exception>
    public static long Of(ImageFile image, IReadOnlyList<int> editions, ILookup<int, WindowsPath> trees, WimCompression? conversion)
    {
        var wim = image.Wim;
        var kept = image.ForEach([.. editions.Select(e => (int?)e)], edition =>
        {
            var counts = new Dictionary<Sha1Hash, uint>();
            var gone = new Dictionary<Sha1Hash, uint>();
            using var tree = image.OpenEdition(edition!.Value);
            tree.CountContents(WindowsPath.Root, counts);
            foreach (var path in trees[edition.Value])
                tree.CountContents(path, gone);
            return counts.Where(c => c.Value > gone.GetValueOrDefault(c.Key)).Select(c => c.Key).ToList();
        }).SelectMany(h => h).ToHashSet();
        var contents = wim.Blobs.Entries.Where(e => !e.IsMetadata && kept.Contains(e.Hash)).OrderBy(e => e.Solid).ThenBy(e => e.Resource.Offset)
            .ToList();
        long metadata = editions.Sum(e => wim.Blobs.Metadata[e - 1].Resource.StoredSize);
        return FormatErrors.Wrap(image.Name, () => conversion is { } compression
            ? WimSizeEstimate.Of(wim, contents, compression) + (long)(metadata * MetadataGrowth)
            : contents.Sum(c => c.Resource.StoredSize) + metadata)
            + WimHeader.Size + wim.Header.Xml.StoredSize + (long)contents.Count * BlobTable.EntryLength;
    }
}
