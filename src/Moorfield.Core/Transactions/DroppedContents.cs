using System.Collections.Concurrent;
using Moorfield.Core.Images;
using Moorfield.Core.Vaults;
using Moorfield.Formats.Wim;

namespace Moorfield.Core.Transactions;

/// <summary>
/// Finds contents that an image has dropped: still in its table, at the place where a run left them, or in the vault. Usable from several
/// threads at once.
/// </summary>
public sealed class DroppedContents
{
    private readonly ImageFile _file;
    private readonly Vault _vault;
    private readonly IReadOnlySet<string>? _damaged;
    private readonly ILookup<Sha1Hash, DroppedContent> _dropped;
    private readonly ConcurrentDictionary<Sha1Hash, RestorableContent?> _found = new();

    /// <param name="damaged">Contents that the vault is known to have damaged.</param>
    internal DroppedContents(ImageFile file, Vault vault, IReadOnlySet<string>? damaged = null)
    {
        _damaged = damaged;
        _file = file;
        _vault = vault;
        string identity = TargetIdentities.Of(file);
        // Later runs may have dropped what an earlier one still had: all points of this image count.
        _dropped = PointHistory.Read(vault, _ => { }).Select(s => s.Point).Where(p => p.Target.MachineId == identity && p.IsImage)
            .SelectMany(p => vault.TryRead(p.Number)?.Image!.Dropped ?? []).Where(d => Sha1Hash.Parse(d.Sha1) is not null)
                .ToLookup(d => Sha1Hash.Parse(d.Sha1)!.Value);
    }

    /// <summary>True if the files of a run could still come back after the image is compacted: kept in the vault, or still used in it.</summary>
    public static bool AreRecoverable(RestorePoint point, ImageFile file)
    {
        var kept = (point.Image?.Dropped ?? []).Where(d => d.Kept is not null).Select(d => d.Sha1).ToHashSet(StringComparer.OrdinalIgnoreCase);
        return point.Changes.OfType<TreeRemoved>().Where(t => t.Recorded is not null).SelectMany(t => WimEdition.Contents(t.Recorded!))
            .All(hash => file.Wim.Blobs.Find(hash) is not null || kept.Contains(hash.ToString()));
    }

    /// <summary>All contents found so far that the image's table lacks.</summary>
    internal IReadOnlyDictionary<Sha1Hash, RestorableContent> Restorable =>
        _found.Where(f => f.Value is not null).ToImmutableDictionary(f => f.Key, f => f.Value!);

    /// <summary>True if a content can be had; its bytes are read to make sure.</summary>
    internal bool Has(Sha1Hash hash) => _file.Wim.Blobs.Find(hash) is not null || Find(hash) is not null;

    internal Stream Open(Sha1Hash hash)
    {
        if ((_file.Wim.Blobs.Find(hash) ?? Find(hash)?.Blob) is { } blob)
            return new FileStream(_file.OpenContent(blob), FileAccess.Read);
        return Find(hash)?.Open?.Invoke()
            ?? throw new MoorfieldException(ErrorKind.Failed, $"{_file.Name}: the content {hash} is neither in the file nor in the vault.");
    }

    private RestorableContent? Find(Sha1Hash hash) => _found.GetOrAdd(hash, Search);

    private RestorableContent? Search(Sha1Hash hash)
    {
        foreach (var dropped in _dropped[hash])
        {
            var blob = new BlobEntry(new ResourceHeader(dropped.StoredSize, (ResourceFlags)dropped.Flags, dropped.Offset, dropped.Size), 1, 0, hash);
            if (_file.Wim.Holds(blob))
                return new RestorableContent(blob, null);
        }
        return _dropped[hash].FirstOrDefault(d => d.Kept is not null && _vault.HasBlob(d.Kept) && _damaged?.Contains(d.Kept) != true) is { } kept
            ? new RestorableContent(null, () => _vault.OpenBlob(kept.Kept!))
            : null;
    }
}
