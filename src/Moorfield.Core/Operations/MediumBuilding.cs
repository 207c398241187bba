using System.Collections.Immutable;
using System.Security.Cryptography;
using Microsoft.Win32.SafeHandles;
using Moorfield.Core.Model;
using Moorfield.Core.Targets;
using Moorfield.Core.Transactions;
using Moorfield.Core.Trees;
using Moorfield.Formats.Media;
using Moorfield.Formats.Wim;

namespace Moorfield.Core.Operations;

/// <summary>A medium that was built.</summary>
/// <param name="Removal">How the removal in its image ended; null without one.</param>
/// <param name="ImageBytes">Of its image.</param>
/// <param name="Sha256">Of the whole file.</param>
/// <param name="Compared">Files that were read back and are the same as on the source.</param>
public sealed record BuiltMedium(Outcome? Removal, long Bytes, long ImageBytes, string Sha256, int Compared);

/// <summary>
/// Builds a medium from another one: packages go from its image, the image is compacted, and all else stays as it is. The source is only read;
/// what is under way lies in a folder beside the result, which gets its name when it is whole and was read back.
/// </summary>
/// <param name="source">On a medium.</param>
/// <param name="output">Path of the result.</param>
/// <param name="label">Null for that of the source.</param>
/// <param name="removal">From the copy of the image; null to leave the image as it is.</param>
public sealed class MediumBuilding(ImageTarget source, string output, string? label, Func<ImageTarget, Removal>? removal)
{
    private const int CopyLength = 4 << 20;
    private readonly MediumImage _medium = source.Image.Medium ?? throw new ArgumentException("The image lies on no medium.", nameof(source));
    private readonly string _full = Path.GetFullPath(output);

    /// <summary>Numbers of the editions that are kept, in their order; empty for all.</summary>
    public ImmutableArray<int> Only { get; init; } = [];

    private bool ChangesImage => removal is not null || !Only.IsEmpty;

    /// <summary>Whether the image is an ESD, which is made a WIM on the way: an ESD is not changed.</summary>
    public bool Converts => ChangesImage && source.Image.Wim.Header.IsSolidVersion;

    private string? Ending => Converts ? "wim" : null;

    private string Work => Path.Combine(Path.GetDirectoryName(_full)!, $".{Path.GetFileName(_full)}.moorfield-build");

    /// <summary>Bytes that it needs for a time beside the result.</summary>
    public long Needs => new FileInfo(source.FullPath).Length + (!ChangesImage ? 0 : (Converts ? 5 : 3) * _medium.Image.Size);

    /// <summary>Makes sure that it can begin.</summary>
    /// <param name="replaces">Whether a result that is there already may be replaced.</param>
    /// <exception cref="MoorfieldException">It cannot.</exception>
    public void Check(bool replaces)
    {
        if (Path.Exists(_full) && TargetPlace.Meet(_full, source.FullPath))
            throw new MoorfieldException(Trouble.Misused, $"{output} is the source itself, which is never written. Name another file.");
        if (Path.Exists(_full) && (!replaces || !File.Exists(_full)))
            throw new MoorfieldException(Trouble.Misused, $"{output} is there already. Name another file, or add --replace.");
        string folder = Path.GetDirectoryName(_full)!;
        if (!Directory.Exists(folder))
            throw new MoorfieldException(Trouble.Misused, $"There is no folder {folder}.");
        long free = new DriveInfo(folder).AvailableFreeSpace;
        if (free < Needs)
            throw new MoorfieldException(Trouble.Refused,
                $"{folder} has {Prose.Size(free)} left, and building needs about {Prose.Size(Needs)}. Nothing was written.");
        Rewrite(label, _medium.Image.Size, _ => 0);
    }

    private T Rewrite<T>(string? text, long length, Func<MediumRewrite, T> use)
    {
        using var file = File.OpenHandle(source.FullPath);
        try
        {
            return FormatTrouble.Translated(source.Name, () => use(MediumRewrite.Plan(file, _medium.Image, length, text, Ending)));
        }
        catch (ArgumentException e)
        {
            throw new MoorfieldException(Trouble.Misused, e.Message, e);
        }
    }

    /// <summary>Builds it.</summary>
    /// <param name="step">Told what is under way.</param>
    /// <exception cref="MoorfieldException">It failed, or was stopped: there is nothing under the result's name that was not there
    /// before.</exception>
    public BuiltMedium Build(WriteSeam seam, Action<string> step, CancellationToken stop)
    {
        var before = Stamp();
        Clear();
        Directory.CreateDirectory(Work);
        try
        {
            Outcome? outcome = null;
            string? image = null;
            if (ChangesImage)
                (image, outcome) = MakeImage(seam, step, stop);
            step("Writing the medium");
            string part = Path.Combine(Work, "medium.iso");
            long length = image is null ? _medium.Image.Size : new FileInfo(image).Length;
            using (var reading = File.OpenHandle(source.FullPath))
            using (var content = image is null ? null : File.OpenHandle(image))
            using (var writing = new FileStream(part, FileMode.CreateNew))
            {
                FormatTrouble.Translated(source.Name, () =>
                {
                    MediumRewrite.Plan(reading, _medium.Image, length, label, Ending).Write(content, writing, _ => Stop(stop));
                    return 0;
                });
                writing.Flush(flushToDisk: true);
            }
            step("Reading it back");
            var (hash, compared) = Compare(part, image, stop);
            if (Stamp() != before)
                throw new MoorfieldException(Trouble.Refused, $"{source.Name} was changed by something else meanwhile. Nothing was written.");
            File.Move(part, _full, overwrite: true);
            return new BuiltMedium(outcome, new FileInfo(_full).Length, length, hash, compared);
        }
        finally
        {
            Clear();
        }
    }

    /// <summary>Gives a medium another label in its own file: some blocks are written, and read back.</summary>
    /// <returns>How many blocks.</returns>
    /// <exception cref="MoorfieldException">It cannot be written, or the label cannot.</exception>
    public static int Relabel(ImageTarget source, string label)
    {
        var building = new MediumBuilding(source, source.FullPath, label, null);
        var changes = building.Rewrite(label, building._medium.Image.Size, rewrite => rewrite.Changes.ToList());
        using (var file = File.OpenHandle(source.FullPath, FileMode.Open, FileAccess.ReadWrite))
        {
            foreach (var (offset, bytes) in changes)
                RandomAccess.Write(file, bytes.Span, offset);
            RandomAccess.FlushToDisk(file);
        }
        using var fresh = File.OpenHandle(source.FullPath);
        return Medium.Read(fresh).Label == label ? changes.Count
            : throw new MoorfieldException(Trouble.Failed, $"{source.Name} does not have the label '{label}' after it was written.");
    }

    private (long, DateTime) Stamp()
    {
        var file = new FileInfo(source.FullPath);
        return (file.Length, file.LastWriteTimeUtc);
    }

    private void Clear()
    {
        if (Directory.Exists(Work))
            Directory.Delete(Work, recursive: true);
    }

    private static void Stop(CancellationToken stop)
    {
        if (stop.IsCancellationRequested)
            throw new MoorfieldException(Trouble.Stopped, "Stopped. Nothing was written.");
    }

    private (string Path, Outcome? Outcome) MakeImage(WriteSeam seam, Action<string> step, CancellationToken stop)
    {
        step("Copying the image");
        string copy = Path.Combine(Work, "image.wim");
        using (var reading = File.OpenHandle(source.FullPath))
        using (var writing = new FileStream(copy, FileMode.CreateNew))
        {
            byte[] buffer = new byte[CopyLength];
            for (long done = 0; done < _medium.Place.Length;)
            {
                Stop(stop);
                int got = RandomAccess.Read(reading, buffer.AsSpan(0, (int)Math.Min(buffer.Length, _medium.Place.Length - done)),
                    _medium.Place.Offset + done);
                if (got == 0)
                    throw new MoorfieldException(Trouble.Failed, $"{source.Name} became shorter while it was read. Nothing was written.");
                writing.Write(buffer, 0, got);
                done += got;
            }
        }
        if (Converts || !Only.IsEmpty)
        {
            string wim = Path.Combine(Work, "converted.wim");
            var header = source.Image.Wim.Header;
            // What is compressed in the same way already, libwim copies as it is stored.
            ImageExport.Write(copy, source.Name, Only, wim, Converts ? WimCompression.Lzx : header.Compression, !header.Integrity.IsNone,
                (done, total) => step($"Writing the image, {(total > 0 ? 100 * done / total : 0)} %"), stop);
            File.Delete(copy);
            copy = wim;
        }
        if (removal is null)
            return (copy, null);
        step("Removing packages");
        using var image = new ImageTarget(ImageFile.Open(copy, seam));
        var operation = removal(image);
        var proposal = operation.Plan();
        var outcome = Outcome.Nothing;
        if (proposal.HasEffect)
            outcome = operation.CarryOut(proposal, new RunSettings(null, seam) { AcceptsCosts = true, Begin = () => stop })!;
        if (!outcome.Verified)
        {
            throw new MoorfieldException(Trouble.Failed,
                $"The image does not hold what was planned: {outcome.Disagreements[0].Text} Nothing was written.");
        }
        step("Compacting the image");
        string small = Path.Combine(Work, "small.wim");
        ImageCompaction.Copy(image.Image, small, seam, stop);
        File.Delete(copy);
        return (small, outcome);
    }

    /// <summary>Holds what was written against the source and the image, file by file.</summary>
    private (string Sha256, int Compared) Compare(string part, string? image, CancellationToken stop)
    {
        using var left = File.OpenHandle(source.FullPath);
        using var right = File.OpenHandle(part);
        var written = FormatTrouble.Translated(Path.GetFileName(part), () => Medium.Read(right));
        var (before, after) = (Files(_medium.Whole), Files(written));
        string imagePath = Converts ? _medium.Image.Path[..^3] + "wim" : _medium.Image.Path;
        if (!before.Keys.Select(k => k == _medium.Image.Path ? imagePath : k).ToHashSet(StringComparer.OrdinalIgnoreCase).SetEquals(after.Keys))
            throw Different("it has other files");
        foreach (var (path, entry) in before.Where(f => f.Value != _medium.Image && !IsCatalogue(f.Value)))
        {
            Stop(stop);
            if (!Hash(left, entry).SequenceEqual(Hash(right, after[path])))
                throw Different($"{path} is another");
        }
        using (var content = File.OpenHandle(image ?? source.FullPath))
        {
            long start = image is null ? _medium.Place.Offset : 0;
            var place = after[imagePath].Whole ?? throw Different("its image is in pieces");
            long length = image is null ? _medium.Place.Length : RandomAccess.GetLength(content);
            if (place.Length != length || !Hash(content, start, length).SequenceEqual(Hash(right, place.Offset, length)))
                throw Different("its image is another");
        }
        if (written.Boot.Length != _medium.Whole.Boot.Length)
            throw Different("it starts otherwise");
        foreach (var (old, now) in _medium.Whole.Boot.Zip(written.Boot))
        {
            long length = Math.Max(1, (int)old.Sectors) * 512L;
            if ((old.Platform, old.Sectors) != (now.Platform, now.Sectors)
                || !Hash(left, (long)old.Block * Medium.BlockSize, length).SequenceEqual(Hash(right, (long)now.Block * Medium.BlockSize, length)))
                throw Different("it starts otherwise");
        }
        return (Convert.ToHexStringLower(Hash(right, 0, RandomAccess.GetLength(right))), before.Count - 1);

        // Its numbers of blocks are others.
        bool IsCatalogue(MediumEntry entry) => entry.Name.Equals("boot.cat", StringComparison.OrdinalIgnoreCase);
    }

    private MoorfieldException Different(string how) =>
        new(Trouble.Failed, $"What was written is not what {source.Name} holds: {how}. Nothing of it is left.");

    private static Dictionary<string, MediumEntry> Files(Medium medium) =>
        medium.Entries.Where(e => !e.IsFolder).DistinctBy(e => e.Path, StringComparer.OrdinalIgnoreCase)
            .ToDictionary(e => e.Path, StringComparer.OrdinalIgnoreCase);

    private static byte[] Hash(SafeFileHandle file, MediumEntry entry)
    {
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        foreach (var extent in entry.Extents)
            Append(hash, file, extent.Offset, extent.Length);
        return hash.GetHashAndReset();
    }

    private static byte[] Hash(SafeFileHandle file, long offset, long length)
    {
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        Append(hash, file, offset, length);
        return hash.GetHashAndReset();
    }

    private static void Append(IncrementalHash hash, SafeFileHandle file, long offset, long length)
    {
        byte[] buffer = System.Buffers.ArrayPool<byte>.Shared.Rent(CopyLength);
        try
        {
            while (length > 0)
            {
                int got = RandomAccess.Read(file, buffer.AsSpan(0, (int)Math.Min(buffer.Length, length)), offset);
                if (got == 0)
                    return;
                hash.AppendData(buffer, 0, got);
                (offset, length) = (offset + got, length - got);
            }
        }
        finally
        {
            System.Buffers.ArrayPool<byte>.Shared.Return(buffer);
        }
    }
}
