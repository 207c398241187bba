using Moorfield.Core.Storage;
using Moorfield.Formats.Media;

namespace Moorfield.Core.Images;

/// <summary>Holds a medium that was written against what it is to hold, byte by byte, as the reader of media finds it.</summary>
/// <param name="source">The medium that was read.</param>
/// <param name="left">Its file.</param>
/// <param name="name">Of the source, for messages.</param>
/// <param name="step">Called after each stretch with its bytes; what it throws ends the comparison.</param>
internal sealed class MediaComparer(Medium source, SafeFileHandle left, string name, Action<int> step)
{
    private const int PieceLength = 1 << 20;
    private readonly byte[] _one = new byte[PieceLength];
    private readonly byte[] _other = new byte[PieceLength];

    /// <summary>Compares all files that are to be the same, and how both start.</summary>
    /// <param name="image">Of the source, which may be another.</param>
    /// <param name="imagePath">Where the result has it.</param>
    /// <param name="contents">Writers of the content of the image, and of each file that was added, by path.</param>
    /// <returns>How many files are as on the source.</returns>
    /// <exception cref="MoorfieldException">They differ.</exception>
    internal int Check(SafeFileHandle right, MediumEntry image, string imagePath, IReadOnlyDictionary<string, Action<Stream>> contents)
    {
        var written = FormatErrors.Wrap("What was written", () => Medium.Read(right));
        var (before, after) = (Files(source), Files(written));
        var wanted = before.Keys.Where(k => k != image.Path).Concat(contents.Keys).ToHashSet(StringComparer.OrdinalIgnoreCase);
        if (!wanted.SetEquals(after.Keys) || !after.ContainsKey(imagePath))
            throw Different("it has other files");
        // The numbers of blocks in the boot catalogue are others.
        foreach (var (path, entry) in before.Where(f => f.Key != image.Path && !f.Value.Name.Equals("boot.cat", StringComparison.OrdinalIgnoreCase)))
        {
            var extents = after[path].Extents;
            if (entry.Size != after[path].Size || extents.Length != entry.Extents.Length
                || !entry.Extents.Zip(extents).All(e => IsSame(e.First, right, e.Second)))
                throw Different($"{path} is another");
        }
        foreach (var (path, write) in contents)
        {
            if (after[path].Extents.IsEmpty)
                continue;
            var place = after[path].Whole ?? throw Different($"{path} is in pieces");
            var comparing = new ComparingStream(right, place.Offset, step, () => Different($"{path} is another"));
            write(comparing);
            if (comparing.Position != place.Length)
                throw Different($"{path} is another");
        }
        CheckStart(written, right);
        return before.Keys.Count(k => k != image.Path);
    }

    private void CheckStart(Medium written, SafeFileHandle right)
    {
        if (written.Boot.Length != source.Boot.Length)
            throw Different("it starts otherwise");
        foreach (var (old, now) in source.Boot.Zip(written.Boot))
        {
            long length = Math.Max(1, (int)old.Sectors) * 512L;
            if ((old.Platform, old.Sectors) != (now.Platform, now.Sectors)
                || !IsSame(new MediumExtent(old.Block, length), right, new MediumExtent(now.Block, length)))
                throw Different("it starts otherwise");
        }
    }

    private bool IsSame(MediumExtent old, SafeFileHandle right, MediumExtent now)
    {
        if (old.Length != now.Length)
            return false;
        for (long done = 0; done < old.Length; done += PieceLength)
        {
            int length = (int)Math.Min(PieceLength, old.Length - done);
            if (!Fill(left, _one.AsSpan(0, length), old.Offset + done) || !Fill(right, _other.AsSpan(0, length), now.Offset + done)
                || !_one.AsSpan(0, length).SequenceEqual(_other.AsSpan(0, length)))
                return false;
            step(length);
        }
        return true;
    }

    internal static bool Fill(SafeFileHandle file, Span<byte> bytes, long offset)
    {
        while (bytes.Length > 0)
        {
            int got = RandomAccess.Read(file, bytes, offset);
            if (got == 0)
                return false;
            bytes = bytes[got..];
            offset += got;
        }
        return true;
    }

    private MoorfieldException Different(string how) =>
        new(ErrorKind.Failed, $"What was written is not what {name} holds: {how}. Nothing of it is left.");

    private static Dictionary<string, MediumEntry> Files(Medium medium) =>
        medium.Entries.Where(e => !e.IsFolder).DistinctBy(e => e.Path, StringComparer.OrdinalIgnoreCase)
            .ToDictionary(e => e.Path, StringComparer.OrdinalIgnoreCase);
}

/// <summary>Takes what should be in a file, and looks whether it is.</summary>
internal sealed class ComparingStream(SafeFileHandle file, long start, Action<int> step, Func<Exception> different) : Stream
{
    private byte[] _piece = [];

    public override bool CanRead => false;
    public override bool CanSeek => false;
    public override bool CanWrite => true;
    public override long Length => Position;
    public override long Position { get; set; }

    public override void Write(ReadOnlySpan<byte> buffer)
    {
        if (_piece.Length < buffer.Length)
            _piece = new byte[buffer.Length];
        var there = _piece.AsSpan(0, buffer.Length);
        if (!MediaComparer.Fill(file, there, start + Position) || !there.SequenceEqual(buffer))
            throw different();
        Position += buffer.Length;
        step(buffer.Length);
    }

    public override void Write(byte[] buffer, int offset, int count) => Write(buffer.AsSpan(offset, count));

    public override void Flush()
    {
    }

    public override int Read(byte[] buffer, int offset, int count) => throw new NotSupportedException();
    public override long Seek(long offset, SeekOrigin origin) => throw new NotSupportedException();
    public override void SetLength(long value) => throw new NotSupportedException();
}
