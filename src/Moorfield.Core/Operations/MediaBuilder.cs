using Moorfield.Core.Images;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Formats.Media;
using Moorfield.Formats.Native;
using Moorfield.Formats.Wim;

namespace Moorfield.Core.Operations;

/// <summary>A medium that was built.</summary>
/// <param name="Removal">How the removal in its image ended; null without one.</param>
/// <param name="ImageBytes">Of its image, in all its parts.</param>
/// <param name="Parts">Of its image.</param>
/// <param name="Sha256">Of the whole file; null when it was not to be worked out.</param>
/// <param name="Compared">Files that were read back and are the same as on the source.</param>
public sealed record MediaBuildResult(Outcome? Removal, long Bytes, long ImageBytes, int Parts, string? Sha256, int Compared);

/// <summary>A file that a medium gets.</summary>
/// <param name="File">Its path here.</param>
/// <param name="Path">On the medium, with slashes.</param>
public sealed record MediaFile(string File, string Path);

/// <summary>
/// Builds a medium from another one: packages go from its image, and everything else stays as it is. The source is only read; what is under way lies
/// in a folder next to the result, which gets its name when it is whole and was read back. The image is changed over the source, not in a copy:
/// what stays of it goes through the disk once, on its way to its place.
/// </summary>
/// <param name="source">On a medium.</param>
/// <param name="output">Path of the result.</param>
/// <param name="making">Of the image.</param>
public sealed class MediaBuilder(ImageTarget source, string output, MediaImageBuilder making)
{
    // Of the time of the writing.
    private const double ComparingShare = 1;
    private const string PartName = "medium.iso";
    private readonly MediaImage _medium = source.Image.Medium ?? throw new ArgumentException("The image lies on no medium.", nameof(source));
    private readonly string _full = Path.GetFullPath(output);

    /// <summary>True if an existing file with the result's name may be replaced.</summary>
    public bool Replaces { get; init; }

    /// <summary>Null for that of the source.</summary>
    public string? Label { get; init; }

    /// <summary>Files that are added.</summary>
    public ImmutableArray<MediaFile> Added { get; init; } = [];

    /// <summary>True if the SHA-256 of the result is worked out, which takes longer than everything else on some processors.</summary>
    public bool HasDigest { get; init; } = true;

    /// <summary>Of the image.</summary>
    public MediaImageBuilder Making => making;

    private long SourceBytes => new FileInfo(source.FullPath).Length;

    private long AddedBytes => Added.Sum(a => new FileInfo(a.File).Length);

    /// <summary>Bytes that it needs for a time next to the result's folder, result included.</summary>
    public long Needs => SourceBytes + AddedBytes + making.Needs;

    /// <summary>Makes sure that it can begin.</summary>
    /// <exception cref="MoorfieldException">It cannot.</exception>
    public void Check()
    {
        if (Path.Exists(_full) && TargetLocation.IsSameFile(_full, source.FullPath))
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{output} is the source itself, which is never written. Name another file.");
        if (RegularFile.KindOf(_full, followsLinks: false) is { } kind && (!Replaces || !RegularFile.DescribesFile(kind)))
        {
            throw new MoorfieldException(ErrorKind.InvalidUsage, RegularFile.DescribesFile(kind)
                ? $"{output} is there already. Name another file, or add --replace." : $"{output} is {kind}. Name another file.");
        }
        string folder = Path.GetDirectoryName(_full)!;
        if (!Directory.Exists(folder))
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"There is no folder {folder}.");
        foreach (var (file, _) in Added)
            RegularFile.CheckNamed(file);
        making.Check();
        long free = new DriveInfo(folder).AvailableFreeSpace;
        if (free < Needs)
        {
            throw new MoorfieldException(RefusalReason.NoRoom,
                $"{folder} has {TextFormat.Size(free)} left, and building needs about {TextFormat.Size(Needs)}. Nothing was written.");
        }
        using var reading = File.OpenHandle(source.FullPath);
        Plan(reading, _medium.Image.Size, [.. Added.Select(a => new MediumAddition(a.Path, new FileInfo(a.File).Length))]);
    }

    private MediumRewrite Plan(SafeFileHandle reading, long length, ImmutableArray<MediumAddition> added)
    {
        try
        {
            return FormatErrors.Wrap(source.Name, () => MediumRewrite.Plan(reading, _medium.Whole, _medium.Image, length,
                new MediumChanges { Label = Label, Ending = making.Ending, Added = added }));
        }
        catch (ArgumentException e)
        {
            throw new MoorfieldException(ErrorKind.InvalidUsage, e.Message, e);
        }
    }

    /// <summary>Builds it.</summary>
    /// <param name="report">Called with the progress.</param>
    /// <exception cref="MoorfieldException">It failed, or was stopped: there is nothing under the result's name that was not there
    /// before.</exception>
    public MediaBuildResult Build(WriteInterceptor interceptor, TimeProvider clock, Action<WorkProgress> report, CancellationToken stop)
    {
        var before = Stamp();
        string name = Path.GetFileName(_full);
        using var work = WorkFolder.For(_full, interceptor);
        var meter = new ProgressEstimator([.. Steps()], clock, report);
        using var image = making.Make(work.FullPath, interceptor, meter, clock, stop);
        var (hash, compared) = Write(image, work.FullPath, interceptor, meter, stop);
        if (Stamp() != before)
            throw new MoorfieldException(RefusalReason.ChangedSince, $"{source.Name} was changed by something else meanwhile. Nothing was written.");
        work.MoveOut(PartName, name, Replaces);
        return new MediaBuildResult(image.Removal, new FileInfo(_full).Length, image.Lengths.Sum(), image.Lengths.Length, hash, compared);
    }

    private IEnumerable<(string, double)> Steps() =>
        [.. making.Steps(), ("Writing the medium", SourceBytes), ("Reading it back", SourceBytes * ComparingShare)];

    /// <summary>Writes the medium, and reads it back.</summary>
    private (string? Sha256, int Compared) Write(BuiltMediaImage image, string work, WriteInterceptor interceptor, ProgressEstimator meter,
        CancellationToken stop)
    {
        var added = Added.Select(a => (a.Path, a.File)).Concat(image.Further(making.ImagePath)).ToDictionary();
        using var reading = File.OpenHandle(source.FullPath);
        var plan = Plan(reading, image.Lengths[0], [.. added.Select(a => new MediumAddition(a.Key, new FileInfo(a.Value).Length))]);
        using var folder = Folder.Open(work, interceptor);
        using var medium = new InterceptedFileStream(folder.CreateFile(PartName, AtomicFile.PublicMode), interceptor,
            Path.Combine(work, PartName), stop);
        using var hash = HasDigest ? new BackgroundSha256(medium.File) : null;
        meter.Next();
        FormatErrors.Wrap(source.Name, () =>
        {
            var counted = new CountedStream(medium, done =>
            {
                meter.At(done, plan.Length);
                hash?.Follow(done);
            });
            plan.Write(counted, image.Write, (path, stream) => FileContent.Copy(added[path], stream));
            return 0;
        });
        var contents = added.ToDictionary(a => a.Key, a => (Action<Stream>)(stream => FileContent.Copy(a.Value, stream)));
        contents[making.ImagePath] = image.Write ?? (stream => FileContent.Copy(source.FullPath, stream, _medium.Place.Offset, _medium.Place.Length));
        meter.Next();
        int same = 0;
        // What is compared while it goes to the disk is what goes there.
        WimFile.Unwrapped(() => Parallel.Invoke(medium.Flush, () => same = Compare(reading, medium.File, contents, done =>
        {
            Stop(stop);
            meter.At(done + (hash?.Done ?? done), 2 * plan.Length);
        })));
        return (hash is null ? null : FormatErrors.Wrap("What was written", () => hash.Finish(plan.Length, () =>
        {
            Stop(stop);
            meter.At(plan.Length + hash.Done, 2 * plan.Length);
        })), same);
    }

    private int Compare(SafeFileHandle reading, SafeFileHandle written, Dictionary<string, Action<Stream>> contents, Action<long> told)
    {
        long compared = 0;
        return new MediaComparer(_medium.Whole, reading, source.Name, bytes => told(compared += bytes))
            .Check(written, _medium.Image, making.ImagePath, contents);
    }

    /// <summary>Gives a medium another label in its own file: some blocks are written, and read back. What goes wrong is taken back.</summary>
    /// <returns>How many blocks.</returns>
    /// <exception cref="MoorfieldException">It cannot be written, or the label cannot; the medium is what it was, unless the message says
    /// otherwise.</exception>
    public static int Relabel(ImageTarget source, string label)
    {
        if (!source.Image.TryLock())
            throw new MoorfieldException(RefusalReason.InUse, $"{source.Name} is being changed by another run of moorfield. Wait for it to end.");
        var building = new MediaBuilder(source, source.FullPath, new MediaImageBuilder(source, null)) { Label = label };
        // Not by File.OpenHandle, whose own lock would meet the one that was just taken.
        using var reading = RegularFile.Open(source.FullPath, LibC.ReadOnly)
            ?? throw new MoorfieldException(ErrorKind.Failed, $"{source.FullPath} cannot be read.");
        ImmutableArray<DiskBlockChange> changes = [.. building.Plan(reading, building._medium.Image.Size, []).Changes
            .Select(c => new DiskBlockChange(c.Offset, FileContent.ReadAt(reading, c.Offset, c.Bytes.Length), c.Bytes))];
        source.Image.Overwrite(changes, () => Medium.Read(reading).Label == label);
        return changes.Length;
    }

    private (long, DateTime) Stamp()
    {
        var file = new FileInfo(source.FullPath);
        return (file.Length, file.LastWriteTimeUtc);
    }

    internal static void Stop(CancellationToken stop)
    {
        if (stop.IsCancellationRequested)
            throw new MoorfieldException(ErrorKind.Stopped, "Stopped. Nothing was written.");
    }
}
