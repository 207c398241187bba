using Moorfield.Core.Images;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Formats.Media;

namespace Moorfield.Core.Operations;

/// <summary>A folder that got the files of a medium.</summary>
/// <param name="Parts">Of its image.</param>
public sealed record MediaUnpackResult(int Files, long Bytes, int Parts);

/// <summary>
/// Writes the files of a medium into a folder, as a stick needs them. What is under way lies in a folder inside of it, and moves out of that
/// when all of it is whole and was read back. The source is only read.
/// </summary>
/// <param name="source">On a medium.</param>
/// <param name="folder">Is made when it is not there.</param>
public sealed class MediaUnpacker(ImageTarget source, string folder)
{
    /// <summary>FAT32 takes files below this many bytes.</summary>
    public const long MaxFatFileBytes = uint.MaxValue;

    private readonly MediaImage _medium = source.Image.Medium ?? throw new ArgumentException("The image lies on no medium.", nameof(source));
    private readonly string _full = Path.GetFullPath(folder);

    /// <summary>Of the image.</summary>
    public required MediaImageBuilder Making { get; init; }

    /// <summary>Bytes that it needs for a time, result included.</summary>
    public long Needs => _medium.Whole.Entries.Sum(e => e.Size) + Making.Needs;

    private IEnumerable<MediumEntry> Others => _medium.Whole.Entries.Where(e => !e.IsFolder && e != _medium.Image)
        .DistinctBy(e => e.Path, StringComparer.OrdinalIgnoreCase);

    /// <summary>Makes sure that it can begin.</summary>
    /// <exception cref="MoorfieldException">It cannot.</exception>
    public void Check()
    {
        if (File.Exists(_full))
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{folder} is a file. Name a folder.");
        string above = Directory.Exists(_full) ? _full : Path.GetDirectoryName(_full) ?? "/";
        if (!Directory.Exists(above))
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"There is no folder {above}.");
        var names = _medium.Whole.Entries.Select(e => e.Path.Split('/')[0]).ToHashSet(StringComparer.OrdinalIgnoreCase);
        if (Directory.Exists(_full) && Directory.EnumerateFileSystemEntries(_full).Select(Path.GetFileName).FirstOrDefault(n => names.Contains(n!))
            is { } there)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{folder} has {there} already. Name another folder, or an empty one.");
        Making.Check();
        if (new DriveInfo(above).AvailableFreeSpace is var free && free < Needs)
        {
            throw new MoorfieldException(RefusalReason.NoRoom,
                $"{above} has {TextFormat.Size(free)} left, and about {TextFormat.Size(Needs)} are needed. Nothing was written.");
        }
    }

    /// <summary>Writes them.</summary>
    /// <param name="report">Called with the progress.</param>
    /// <exception cref="MoorfieldException">It failed, or was stopped: nothing of it is left.</exception>
    public MediaUnpackResult Unpack(WriteInterceptor interceptor, TimeProvider clock, Action<WorkProgress> report, CancellationToken stop)
    {
        bool isNew = !Directory.Exists(_full);
        bool done = false;
        if (isNew)
            Directory.CreateDirectory(_full);
        try
        {
            using var work = new WorkFolder(_full, ".moorfield-build", interceptor);
            work.MakeFolder(Files);
            string files = Path.Combine(work.FullPath, Files);
            long whole = _medium.Whole.Entries.Sum(e => e.Size);
            var meter = new ProgressEstimator([.. Making.Steps(), ("Writing the files", whole), ("Reading them back", whole / 2)], clock, report);
            using var image = Making.Make(work.FullPath, interceptor, meter, clock, stop);
            var result = Write(image, files, interceptor, meter, stop);
            MoveOut(work, [.. Directory.GetFileSystemEntries(files).Select(e => Path.GetFileName(e)).Order(StringComparer.Ordinal)]);
            done = true;
            return result;
        }
        catch (IOException e) when (e is not FileNotFoundException)
        {
            throw new MoorfieldException(ErrorKind.Failed, $"The files could not be written: {e.Message.TrimEnd('.')}. Nothing of them is left.", e);
        }
        finally
        {
            if (isNew && !done && Directory.Exists(_full) && !Directory.EnumerateFileSystemEntries(_full).Any())
                Directory.Delete(_full);
        }
    }

    private const string Files = "files";

    /// <summary>Gives all files their places, or none.</summary>
    private void MoveOut(WorkFolder work, string[] names)
    {
        var moved = new Stack<string>();
        try
        {
            foreach (string name in names)
            {
                work.MoveOut(name, from: Files);
                moved.Push(name);
            }
        }
        catch (MoorfieldException e)
        {
            while (moved.TryPop(out string? name))
            {
                try
                {
                    work.MoveBack(name, Files);
                }
                catch (MoorfieldException)
                {
                    moved.Push(name);
                    throw new MoorfieldException(e.Kind, $"{e.Message.TrimEnd('.')}. Some of the files are left in {folder}: "
                        + $"{TextFormat.List(moved, 3)}.", e);
                }
            }
            throw;
        }
    }

    private MediaUnpackResult Write(BuiltMediaImage image, string files, WriteInterceptor interceptor, ProgressEstimator meter,
        CancellationToken stop)
    {
        using var reading = File.OpenHandle(source.FullPath);
        foreach (var entry in _medium.Whole.Entries.Where(e => e.IsFolder))
            Directory.CreateDirectory(Path.Combine(files, entry.Path));
        var contents = Others.Select(e => (e.Path, Write: (Action<Stream>)(to =>
        {
            foreach (var extent in e.Extents)
                FileContent.Copy(reading, source.Name, to, extent.Offset, extent.Length);
        }))).ToList();
        contents.Add((Making.ImagePath, image.Write
            ?? (to => FileContent.Copy(reading, source.Name, to, _medium.Place.Offset, _medium.Place.Length))));
        contents.AddRange(image.Further(Making.ImagePath).Select(p => (p.Path, (Action<Stream>)(to => FileContent.Copy(p.File, to)))));
        long whole = Others.Sum(e => e.Size) + image.Lengths.Sum();
        long before = 0;
        meter.Next();
        foreach (var (path, write) in contents)
        {
            string full = Path.Combine(files, path);
            using var parent = Folder.Open(Path.GetDirectoryName(full)!, interceptor);
            using var file = new InterceptedFileStream(parent.CreateFile(Path.GetFileName(full)), interceptor, full, stop);
            var counted = new CountedStream(file, done => meter.At(before + done, whole));
            FormatErrors.Wrap(source.Name, () =>
            {
                write(counted);
                return 0;
            });
            file.Flush();
            before += counted.Count;
        }
        meter.Next();
        long compared = 0;
        foreach (var (path, write) in contents)
        {
            using var file = File.OpenHandle(Path.Combine(files, path));
            var comparing = new ComparingStream(file, 0, bytes =>
            {
                MediaBuilder.Stop(stop);
                meter.At(compared += bytes, whole);
            }, () => Different(path));
            write(comparing);
            if (comparing.Position != RandomAccess.GetLength(file))
                throw Different(path);
        }
        return new MediaUnpackResult(contents.Count, before, image.Lengths.Length);
    }

    private MoorfieldException Different(string path) =>
        new(ErrorKind.Failed, $"What was written as {path} is not what {source.Name} holds. Nothing of it is left.");
}
