using System.Collections.Concurrent;
using System.Security.Cryptography;
using System.Text.Json;
using Moorfield.Formats.Native;
using ZstdSharp;

namespace Moorfield.Core.Vaults;

/// <summary>A key derived from that of an encrypted volume, which opens what was kept of it.</summary>
/// <param name="Volume">Identifier of the volume.</param>
/// <param name="Key">32 bytes.</param>
public sealed record VolumeSecret(Guid Volume, byte[] Key);

/// <content>
/// What was taken from an encrypted volume is kept encrypted, under a key of the restore point. That key is in the document twice: under the
/// key of the volume and under the one in the vault's key file. Either opens it.
/// </content>
public sealed partial class Vault
{
    private const string ByVolume = "volume";
    private const string ByFile = "keyFile";
    private const string ContentUse = "moorfield content";

    private readonly ConcurrentDictionary<Guid, SealingKey> _keys = new();
    private readonly ConcurrentDictionary<int, SealingKey> _sealedPoints = new();
    private readonly List<VolumeSecret> _volumes = [];
    private SealingKey? _sealing;
    private ImmutableArray<StoredWrap> _wraps = [];

    /// <summary>Path of the file with the vault's key.</summary>
    internal string KeyFile { get; set; } = VaultKeyFile.FullPath;

    /// <summary>Called with a sentence or two when a key file was made because there was none.</summary>
    public Action<string>? Tell { get; set; }

    /// <summary>Opens what was kept of a volume by its own key.</summary>
    /// <param name="secret">Taken over.</param>
    public void Offer(VolumeSecret secret) => _volumes.Add(secret);

    /// <summary>True if an encrypted restore point was opened.</summary>
    internal bool HasOpenedSealed => !_sealedPoints.IsEmpty;

    /// <summary>Opens what another one, of the same folder, has opened.</summary>
    internal void TakeKeysOf(Vault other)
    {
        foreach (var key in other._keys.Values)
        {
            var copy = new SealingKey(key.Id, key.Key.ToArray());
            if (!_keys.TryAdd(key.Id, copy))
                copy.Dispose();
        }
    }

    /// <summary>Keeps contents and the next restore point encrypted from now on, openable by the keys of the volumes that were offered and by
    /// the key file.</summary>
    /// <exception cref="MoorfieldException">There is no key file, and none can be made.</exception>
    internal void Seal()
    {
        if (_sealing is not null)
            return;
        LibC.ForbidDumps();
        var (own, isNew) = VaultKeyFile.ReadOrMake(KeyFile, FullPath, _interceptor);
        try
        {
            var key = SealingKey.Make();
            _wraps = [.. _volumes.DistinctBy(v => v.Volume).Select(v => new StoredWrap(ByVolume, v.Volume.ToString(), key.WrapUnder(v.Key))),
                new StoredWrap(ByFile, VaultKeyFile.IdOf(own), key.WrapUnder(own))];
            _sealing = _keys[key.Id] = key;
        }
        finally
        {
            CryptographicOperations.ZeroMemory(own);
        }
        if (isNew)
        {
            string earlier = PointHistory.Read(this, _ => { }).Any(p => p.Point.IsSealed)
                ? " Restore points from before are encrypted under another: put back your copy of that if you have one." : "";
            Tell?.Invoke($"{KeyFile} is new: it is the key to what the vault keeps of encrypted disks. Keep a copy of it where the vault is not."
                + earlier);
        }
    }

    /// <summary>The key of an encrypted restore point; null when neither the volume's nor the key file opens it.</summary>
    private SealingKey? KeyOf(int number, StoredSeal seal)
    {
        if (!_keys.TryGetValue(seal.Key, out var key))
        {
            key = ByVolumes(seal) ?? ByKeyFile(seal);
            if (key is null)
                return null;
            LibC.ForbidDumps();
            if (!_keys.TryAdd(key.Id, key))
            {
                key.Dispose();
                key = _keys[seal.Key];
            }
        }
        return _sealedPoints[number] = key;
    }

    private SealingKey? ByVolumes(StoredSeal seal) => seal.Wraps.Where(w => w.By == ByVolume)
        .SelectMany(w => _volumes.Where(v => v.Volume.ToString() == w.Id).Select(v => SealingKey.Unwrap(seal.Key, v.Key, w.Key)))
        .FirstOrDefault(k => k is not null);

    private SealingKey? ByKeyFile(StoredSeal seal)
    {
        if (!seal.Wraps.Any(w => w.By == ByFile) || VaultKeyFile.Read(KeyFile) is not { } own)
            return null;
        try
        {
            string id = VaultKeyFile.IdOf(own);
            return seal.Wraps.Where(w => w.By == ByFile && w.Id == id).Select(w => SealingKey.Unwrap(seal.Key, own, w.Key))
                .FirstOrDefault(k => k is not null);
        }
        finally
        {
            CryptographicOperations.ZeroMemory(own);
        }
    }

    /// <summary>The document of a point, encrypted where that is wanted.</summary>
    private StoredPoint Document(RestorePoint point)
    {
        if (_keys.IsEmpty)
            return PointDocuments.Of(point);
        var needed = VaultMaintenance.Contents(point).Select(c => c.Hash).Distinct().Select(FindFile).OfType<BlobFile>().ToList();
        // What comes from an encrypted restore point stays encrypted, wherever it is put back.
        if (needed.Exists(f => f.Key is not null))
            Seal();
        var stored = PointDocuments.Of(point);
        if (_sealing is not { } key)
            return stored;
        _sealedPoints[point.Number] = key;
        var others = needed.Select(f => f.Key).OfType<SealingKey>().Where(k => k != key).Distinct()
            .Select(k => new StoredOtherKey(k.Id, k.Key.ToArray())).ToList();
        var body = new StoredBody(stored.Files, stored.Changes, stored.State, [.. others]);
        var output = new MemoryStream();
        using (var sealing = new SealingStream(output, key, DocumentUse(point.Number)))
        {
            using (var compressor = new CompressionStream(sealing, _compressor.Value, preserveCompressor: true, leaveOpen: true))
                JsonSerializer.Serialize(compressor, body, VaultJson.Default.StoredBody);
            sealing.Finish();
        }
        others.ForEach(o => CryptographicOperations.ZeroMemory(o.Key));
        return stored with
        {
            Schema = PointDocuments.SealedSchema, Files = [], Changes = [], State = null,
            Seal = new StoredSeal(key.Id, _wraps, stored.Changes.Length, [.. needed.Select(f => f.Name).Order(StringComparer.Ordinal)],
                output.ToArray()),
        };
    }

    /// <summary>A document whose encrypted part is opened.</summary>
    /// <exception cref="LockedPointException">No key that opens it is here.</exception>
    private StoredPoint Unsealed(StoredPoint stored, StoredSeal seal)
    {
        var key = KeyOf(stored.Number, seal) ?? throw new LockedPointException(WhyLocked(stored.Number, seal));
        using var plain = new DecompressionStream(new OpeningStream(new MemoryStream(seal.Body), key, DocumentUse(stored.Number)), leaveOpen: false);
        var body = JsonSerializer.Deserialize(plain, VaultJson.Default.StoredBody) ?? throw new FormatException("it has no body");
        if (body.Keys.IsDefault || body.Keys.Any(k => k is not { Key.Length: SealingKey.Bytes }))
            throw new FormatException("its keys are missing");
        foreach (var other in body.Keys.Select(k => new SealingKey(k.Id, k.Key)))
        {
            if (!_keys.TryAdd(other.Id, other))
                other.Dispose();
        }
        return stored with { Files = body.Files, Changes = body.Changes, State = body.State };
    }

    private string WhyLocked(int number, StoredSeal seal)
    {
        byte[]? there = VaultKeyFile.Read(KeyFile);
        string own = string.Join(" or ", seal.Wraps.Where(w => w.By == ByFile).Select(w => w.Id));
        string file = there is null ? $"is not there (key {own})" : $"has the key {VaultKeyFile.IdOf(there)} instead of {own}";
        CryptographicOperations.ZeroMemory(there);
        string volumes = string.Join(" or ", seal.Wraps.Where(w => w.By == ByVolume).Select(w => w.Id.ToUpperInvariant()));
        return $"Restore point {number} in {FullPath} is encrypted, and no key that opens it is here: {KeyFile} {file}"
            + $"{(volumes.Length == 0 ? "" : $", and the BitLocker volume {volumes} is not open")}. Put back your copy of the key file, or name it "
            + "in the settings (vault-key).";
    }

    private static string DocumentUse(int number) => $"moorfield document {number}";

    private static string JournalUse(int number) => $"moorfield journal {number}";

    /// <summary>A journal's line as it is written: what failed may name files.</summary>
    private StoredLine LineOf(int number, JournalLine line)
    {
        var stored = PointDocuments.Of(line);
        if (line.Step != JournalLine.Failed || !_sealedPoints.TryGetValue(number, out var key))
            return stored;
        byte[] text = JsonSerializer.SerializeToUtf8Bytes([line.What ?? "", line.Message ?? ""], VaultJson.Default.StringArray);
        return stored with { What = null, Message = null, Sealed = key.Seal(JournalUse(number), text) };
    }

    private JournalLine LineOf(int number, StoredLine stored)
    {
        var line = PointDocuments.Read(stored);
        return stored.Sealed is { } text && _sealedPoints.TryGetValue(number, out var key) && key.Open(JournalUse(number), text) is { } open
            && JsonSerializer.Deserialize(open, VaultJson.Default.StringArray) is [var what, var message]
            ? line with { What = what, Message = message } : line;
    }

    /// <summary>Where the old blocks of a disk are kept; null when a point is not about a disk. No key is needed.</summary>
    /// <exception cref="MoorfieldException">There is no such point, or its document is damaged.</exception>
    internal DiskState? DiskOf(int number)
    {
        if (_read.TryGetValue(number, out var known))
            return known.Disk;
        return Outline(number) is { Seal: not null, Disk: { } stored } outline && IsKnown(outline, number)
            && new DiskState(stored.Journal, stored.Blocks, stored.Start) is var disk && PointCheck.IsSound(disk) ? disk : Read(number).Disk;
    }

    /// <summary>The readable part of an encrypted point when no key that opens it is here; null otherwise.</summary>
    /// <exception cref="MoorfieldException">There is no such point, or its document is damaged.</exception>
    internal LockedPoint? Locked(int number)
    {
        if (_read.ContainsKey(number) || Outline(number) is not { Seal: { } seal } stored || !IsKnown(stored, number))
            return null;
        try
        {
            if (KeyOf(number, seal) is not null)
                return null;
        }
        catch (LockedPointException)
        {
            // the key file cannot be read
        }
        return new LockedPoint(seal.Contents, SealedFormat.IsWhole(new MemoryStream(seal.Body)));
    }

    private void ForgetKeys()
    {
        foreach (var key in _keys.Values)
            key.Dispose();
        foreach (var volume in _volumes)
            CryptographicOperations.ZeroMemory(volume.Key);
        _keys.Clear();
        _volumes.Clear();
    }
}

/// <summary>The part of an encrypted restore point that is readable without a key.</summary>
/// <param name="Names">Of the contents that it needs.</param>
/// <param name="IsWhole">True if its own digest says that nothing of it was damaged.</param>
internal sealed record LockedPoint(ImmutableArray<string> Names, bool IsWhole);

/// <summary>A restore point is encrypted, and no key that opens it is here.</summary>
internal sealed class LockedPointException(string message, Exception? inner = null) : MoorfieldException(RefusalReason.Encrypted, message, inner);
