using System.Collections.Immutable;
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
/// <param name="ImageBytes">Of its image, in all its parts.</param>
/// <param name="Parts">Of its image.</param>
/// <param name="Sha256">Of the whole file.</param>
/// <param name="Compared">Files that were read back and are the same as on the source.</param>
public sealed record BuiltMedium(Outcome? Removal, long Bytes, long ImageBytes, int Parts, string Sha256, int Compared);

/// <summary>A file that a medium gets.</summary>
/// <param name="File">Its path here.</param>
/// <param name="Path">On the medium, with slashes.</param>
public sealed record FileForMedium(string File, string Path);

/// <summary>
/// Builds a medium from another one: packages go from its image, and all else stays as it is. The source is only read; what is under way lies
/// in a folder beside the result, which gets its name when it is whole and was read back. The image is changed over the source, not in a copy:
/// what stays of it goes through the disk once, on its way to its place.
/// </summary>
/// <param name="source">On a medium.</param>
/// <param name="output">Path of the result.</param>
/// <param name="removal">From the image; null to leave it as it is.</param>
public sealed class MediumBuilding(ImageTarget source, string output, Func<ImageTarget, Removal>? removal)
{
    /// <summary>Parts of an image for file systems that take files below 4 GiB only, in bytes.</summary>
    public const long UsualPart = 3800L << 20;

    private const int CopyLength = 4 << 20;

    // Shares of the time, in bytes that are copied meanwhile.
    private const double ConvertingShare = 25, RemovingShare = 1 << 30, ComparingShare = 0.5;
    private readonly MediumImage _medium = source.Image.Medium ?? throw new ArgumentException("The image lies on no medium.", nameof(source));
    private readonly string _full = Path.GetFullPath(output);

    /// <summary>Null for that of the source.</summary>
    public string? Label { get; init; }

    /// <summary>Numbers of the editions that are kept, in their order; empty for all.</summary>
    public ImmutableArray<int> Only { get; init; } = [];

    /// <summary>Files that are added.</summary>
    public ImmutableArray<FileForMedium> Added { get; init; } = [];

    /// <summary>Most bytes of a part of the image; null to leave it whole.</summary>
    public long? Part { get; init; }

    /// <summary>Of an image that is converted.</summary>
    public WimCompression Compression { get; init; } = WimCompression.Lzx;

    private bool ChangesImage => removal is not null || !Only.IsEmpty || Part is not null;

    /// <summary>Whether the image is an ESD, which is made a WIM on the way: an ESD is neither changed nor split.</summary>
    public bool Converts => ChangesImage && source.Image.Wim.Header.IsSolidVersion;

    private string? Ending => Part is not null ? "swm" : Converts ? "wim" : null;

    private string Work => Path.Combine(Path.GetDirectoryName(_full)!, $".{Path.GetFileName(_full)}.moorfield-build");

    /// <summary>Where the result has its image, or the first part of it.</summary>
    public string ImagePath => Ending is { } ending ? $"{_medium.Image.Path[..^ending.Length]}{ending}" : _medium.Image.Path;

    private long SourceBytes => new FileInfo(source.FullPath).Length;

    private long AddedBytes => Added.Sum(a => new FileInfo(a.File).Length);

    /// <summary>Bytes that it needs for a time beside the result's folder, result included.</summary>
    public long Needs => SourceBytes + AddedBytes + (!ChangesImage ? 0 : Converts ? 4 * _medium.Image.Size : _medium.Image.Size / 4)
        + (Part is null ? 0 : 2 * _medium.Image.Size);

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
        foreach (var (file, _) in Added)
        {
            if (!File.Exists(file))
                throw new MoorfieldException(Trouble.Misused, $"There is no file {file}.");
        }
        if (ChangesImage && source.Image.Wim.Header.IsSplit)
        {
            throw new MoorfieldException(Trouble.Refused, $"{source.Name} has its install image in parts, which is not changed. "
                + "'moorfield media folder' takes its files out, and 'moorfield image join' makes one of the parts.");
        }
        long free = new DriveInfo(folder).AvailableFreeSpace;
        if (free < Needs)
        {
            throw new MoorfieldException(Trouble.Refused,
                $"{folder} has {Prose.Size(free)} left, and building needs about {Prose.Size(Needs)}. Nothing was written.");
        }
        using var reading = File.OpenHandle(source.FullPath);
        Plan(reading, _medium.Image.Size, [.. Added.Select(a => new MediumAddition(a.Path, new FileInfo(a.File).Length))]);
    }

    private MediumRewrite Plan(SafeFileHandle reading, long length, ImmutableArray<MediumAddition> added)
    {
        try
        {
            return FormatTrouble.Translated(source.Name, () => MediumRewrite.Plan(reading, _medium.Whole, _medium.Image, length,
                new MediumChanges { Label = Label, Ending = Ending, Added = added }));
        }
        catch (ArgumentException e)
        {
            throw new MoorfieldException(Trouble.Misused, e.Message, e);
        }
    }

    /// <summary>Builds it.</summary>
    /// <param name="tell">Told how far it is.</param>
    /// <exception cref="MoorfieldException">It failed, or was stopped: there is nothing under the result's name that was not there
    /// before.</exception>
    public BuiltMedium Build(WriteSeam seam, TimeProvider clock, Action<WorkState> tell, CancellationToken stop)
    {
        var before = Stamp();
        Clear();
        Directory.CreateDirectory(Work);
        try
        {
            var meter = new WorkMeter([.. Steps()], clock, tell);
            using var image = MakeImage(seam, meter, clock, stop);
            string part = Path.Combine(Work, "medium.iso");
            var (hash, compared) = Write(image, part, seam, meter, stop);
            if (Stamp() != before)
                throw new MoorfieldException(Trouble.Refused, $"{source.Name} was changed by something else meanwhile. Nothing was written.");
            using (var work = Folder.Open(Work, seam))
            using (var folder = Folder.Open(Path.GetDirectoryName(_full)!, seam))
            {
                work.Rename(Path.GetFileName(part), Path.GetFileName(_full), folder);
                folder.Flush();
            }
            return new BuiltMedium(image.Removal, new FileInfo(_full).Length, image.Lengths.Sum(), image.Lengths.Length, hash, compared);
        }
        finally
        {
            Clear();
        }
    }

    private IEnumerable<(string, double)> Steps()
    {
        double image = _medium.Image.Size;
        if (Converts)
        {
            yield return ("Copying the image", image);
            yield return ("Converting the image", image * ConvertingShare);
        }
        if (removal is not null)
            yield return ("Removing packages", RemovingShare);
        if (Part is not null)
            yield return ("Splitting the image", 2 * image);
        yield return ("Writing the medium", SourceBytes);
        yield return ("Reading it back", SourceBytes * ComparingShare);
    }

    /// <summary>Writes the medium, and reads it back.</summary>
    private (string Sha256, int Compared) Write(MadeImage image, string part, WriteSeam seam, WorkMeter meter, CancellationToken stop)
    {
        var added = Added.Select(a => (a.Path, a.File)).Concat(image.Parts.Skip(1).Select((p, i) => ($"{ImagePath[..^4]}{i + 2}.swm", p)))
            .ToDictionary(a => a.Item1, a => a.Item2);
        using var reading = File.OpenHandle(source.FullPath);
        var plan = Plan(reading, image.Lengths[0], [.. added.Select(a => new MediumAddition(a.Key, new FileInfo(a.Value).Length))]);
        using var folder = Folder.Open(Work, seam);
        using var medium = new SeamFileStream(folder.CreateFile(Path.GetFileName(part), ImageCompaction.PlainFileMode), seam, part, stop);
        using var hash = new FollowingSha256(medium.File);
        meter.Next();
        FormatTrouble.Translated(source.Name, () =>
        {
            var counted = new CountedStream(medium, done =>
            {
                meter.At(done, plan.Length);
                hash.Follow(done);
            });
            plan.Write(counted, image.Write, (path, stream) => CopyFile(added[path], stream));
            return 0;
        });
        medium.Flush();
        meter.Next();
        long compared = 0;
        var comparison = new MediumComparison(_medium.Whole, reading, source.Name, bytes =>
        {
            Stop(stop);
            meter.At(compared += bytes, plan.Length);
        });
        var contents = added.ToDictionary(a => a.Key, a => (Action<Stream>)(stream => CopyFile(a.Value, stream)));
        contents[ImagePath] = image.Write ?? (stream => CopyRange(source.FullPath, _medium.Place.Offset, _medium.Place.Length, stream));
        int same = comparison.Check(medium.File, _medium.Image, ImagePath, contents);
        return (FormatTrouble.Translated("What was written", () => hash.Finish(plan.Length)), same);
    }

    /// <summary>Gives a medium another label in its own file: some blocks are written, and read back.</summary>
    /// <returns>How many blocks.</returns>
    /// <exception cref="MoorfieldException">It cannot be written, or the label cannot.</exception>
    public static int Relabel(ImageTarget source, string label)
    {
        var building = new MediumBuilding(source, source.FullPath, null) { Label = label };
        List<(long Offset, ReadOnlyMemory<byte> Bytes)> changes;
        using (var reading = File.OpenHandle(source.FullPath))
            changes = [.. building.Plan(reading, building._medium.Image.Size, []).Changes];
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

    /// <summary>The image that the medium gets.</summary>
    /// <param name="Lengths">Bytes of each part; one when it is whole.</param>
    /// <param name="Write">Writes it, or its first part; null for that of the source.</param>
    private sealed record MadeImage(ImmutableArray<long> Lengths, Action<Stream>? Write, Outcome? Removal, ImageTarget? Target) : IDisposable
    {
        /// <summary>Files of the parts; none when it is whole.</summary>
        internal ImmutableArray<string> Parts { get; init; } = [];

        public void Dispose() => Target?.Dispose();
    }

    private MadeImage MakeImage(WriteSeam seam, WorkMeter meter, TimeProvider clock, CancellationToken stop)
    {
        if (!ChangesImage)
            return new MadeImage([_medium.Image.Size], null, null, null);
        var target = new ImageTarget(Converts ? Convert(seam, meter, stop) : source.Image.OpenOver(Path.Combine(Work, "image.changes"), seam));
        try
        {
            Outcome? outcome = null;
            if (!Only.IsEmpty && !Converts)
                target.Image.Keep(Only, clock.GetUtcNow().UtcDateTime);
            if (removal is not null)
            {
                meter.Next();
                outcome = Remove(target, removal, seam, clock, stop);
            }
            var small = FormatTrouble.Translated(source.Name, () => WimCompactor.Plan(target.Image.Wim));
            return Part is { } bytes ? Split(target, small, bytes, outcome, seam, meter, stop)
                : new MadeImage([small.Length], small.Write, outcome, target);
        }
        catch
        {
            target.Dispose();
            throw;
        }
    }

    private ImageFile Convert(WriteSeam seam, WorkMeter meter, CancellationToken stop)
    {
        string copy = Path.Combine(Work, "image.esd");
        string wim = Path.Combine(Work, "image.wim");
        meter.Next();
        using (var folder = Folder.Open(Work, seam))
        using (var writing = new SeamFileStream(folder.CreateFile(Path.GetFileName(copy)), seam, copy, stop))
            CopyRange(source.FullPath, _medium.Place.Offset, _medium.Place.Length, new CountedStream(writing,
                done => meter.At(done, _medium.Place.Length)));
        meter.Next();
        ImageExport.Write(copy, source.Name, Only, wim, Compression, !source.Image.Wim.Header.Integrity.IsNone, meter.At, stop);
        File.Delete(copy);
        return ImageFile.Open(wim, seam);
    }

    private static Outcome Remove(ImageTarget target, Func<ImageTarget, Removal> removal, WriteSeam seam, TimeProvider clock, CancellationToken stop)
    {
        var operation = removal(target);
        var proposal = operation.Plan();
        if (!proposal.HasEffect)
            return Outcome.Nothing;
        var outcome = operation.CarryOut(proposal, new RunSettings(null, seam) { AcceptsCosts = true, Begin = () => stop, Clock = clock })!;
        return outcome.Verified ? outcome : throw new MoorfieldException(Trouble.Failed,
            $"The image does not hold what was planned: {outcome.Disagreements[0].Text} Nothing was written.");
    }

    /// <summary>Cuts the image into parts, which libwim does from a file.</summary>
    private MadeImage Split(
        ImageTarget target, WimCompaction small, long bytes, Outcome? outcome, WriteSeam seam, WorkMeter meter, CancellationToken stop)
    {
        meter.Next();
        string whole = Path.Combine(Work, "whole.wim");
        using (var folder = Folder.Open(Work, seam))
        using (var writing = new SeamFileStream(folder.CreateFile(Path.GetFileName(whole)), seam, whole, stop))
            FormatTrouble.Translated(source.Name, () =>
            {
                small.Write(new CountedStream(writing, done => meter.At(done, 2 * small.Length)));
                return 0;
            });
        target.Dispose();
        var parts = ImageExport.Split(whole, source.Name, Path.Combine(Work, "part.swm"), bytes,
            (done, all) => meter.At(all + done, 2 * all), stop);
        File.Delete(whole);
        return new MadeImage([.. parts.Select(p => new FileInfo(p).Length)], stream => CopyFile(parts[0], stream), outcome, null) { Parts = parts };
    }

    private static void CopyFile(string path, Stream to)
    {
        using var file = File.OpenHandle(path);
        CopyRange(file, path, 0, RandomAccess.GetLength(file), to);
    }

    private static void CopyRange(string path, long offset, long length, Stream to)
    {
        using var file = File.OpenHandle(path);
        CopyRange(file, path, offset, length, to);
    }

    private static void CopyRange(SafeFileHandle file, string path, long offset, long length, Stream to)
    {
        byte[] buffer = new byte[CopyLength];
        while (length > 0)
        {
            int got = RandomAccess.Read(file, buffer.AsSpan(0, (int)Math.Min(buffer.Length, length)), offset);
            if (got == 0)
                throw new MoorfieldException(Trouble.Failed, $"{path} became shorter while it was read. Nothing was written.");
            to.Write(buffer, 0, got);
            (offset, length) = (offset + got, length - got);
        }
    }
}
