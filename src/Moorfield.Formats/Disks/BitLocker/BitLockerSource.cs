namespace Moorfield.Formats.Disks.BitLocker;

/// <summary>
/// The decrypted bytes of a BitLocker volume, as its file system sees them. What BitLocker keeps for itself reads as zeros and is never written.
/// Source: docs/bitlocker.md, "Special places" [tried].
/// </summary>
internal sealed class BitLockerSource : BlockSource
{
    private readonly BlockSource _volume;
    private readonly SectorCipher _cipher;
    private readonly BitLockerMetadata _metadata;
    private readonly ImmutableArray<(long Start, long End)> _hidden;
    private readonly byte[] _buffer = new byte[SectorCipher.MaxBytes];

    internal BitLockerSource(BlockSource volume, BitLockerMetadata metadata, SectorCipher cipher)
    {
        _volume = volume;
        _metadata = metadata;
        _cipher = cipher;
        _hidden = [.. metadata.Regions.Select(p => (p, p + BitLockerMetadata.RegionBytes))
            .Append((metadata.Moved, metadata.Moved + metadata.MovedBytes)).OrderBy(h => h.Item1)];
    }

    public override long Length => _metadata.EncryptedBytes;

    public override void Read(long offset, Span<byte> buffer)
    {
        CheckInside(offset, buffer.Length);
        for (int done = 0; done < buffer.Length;)
        {
            var (end, place) = Stretch(offset + done);
            int count = (int)Math.Min(buffer.Length - done, end - offset - done);
            if (place is null)
            {
                buffer.Slice(done, count).Clear();
                done += count;
                continue;
            }
            int within = (int)(place.Value % _cipher.SectorSize);
            count = Math.Min(count, SectorCipher.MaxBytes - within);
            Load(place.Value - within, within + count).Slice(within, count).CopyTo(buffer[done..]);
            done += count;
        }
    }

    public override void Write(long offset, ReadOnlySpan<byte> bytes)
    {
        CheckInside(offset, bytes.Length);
        foreach (var (start, end) in _hidden)
        {
            if (offset < end && start < offset + bytes.Length)
                throw new IOException("would be written where BitLocker keeps its own data");
        }
        for (int done = 0; done < bytes.Length;)
        {
            var (end, place) = Stretch(offset + done);
            int within = (int)(place!.Value % _cipher.SectorSize);
            int count = (int)Math.Min(Math.Min(bytes.Length - done, end - offset - done), SectorCipher.MaxBytes - within);
            long first = place.Value - within;
            int length = Whole(within + count);
            var sectors = within == 0 && count == length ? _buffer.AsSpan(0, length) : Load(first, within + count);
            bytes.Slice(done, count).CopyTo(sectors[within..]);
            _cipher.Encrypt(first, sectors);
            _volume.Write(first, sectors);
            done += count;
        }
    }

    public override void Flush() => _volume.Flush();

    /// <summary>Where a byte lies on the volume (null where there are zeros), and the end of the stretch for which the same holds.</summary>
    private (long End, long? Place) Stretch(long offset)
    {
        if (offset < _metadata.MovedBytes)
            return (_metadata.MovedBytes, _metadata.Moved + offset);
        foreach (var (start, end) in _hidden)
        {
            if (offset < start)
                return (start, offset);
            if (offset < end)
                return (end, null);
        }
        return (Length, offset);
    }

    private int Whole(int bytes) => (bytes + _cipher.SectorSize - 1) / _cipher.SectorSize * _cipher.SectorSize;

    /// <summary>The decrypted sectors from a place on.</summary>
    private Span<byte> Load(long place, int bytes)
    {
        var sectors = _buffer.AsSpan(0, Whole(bytes));
        _volume.Read(place, sectors);
        _cipher.Decrypt(place, sectors);
        return sectors;
    }

    protected override void Dispose(bool disposing)
    {
        System.Security.Cryptography.CryptographicOperations.ZeroMemory(_buffer);
        _volume.Dispose();
    }
}
