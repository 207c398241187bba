using Moorfield.Core.Images;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Formats.Media;
using Moorfield.Formats.Wim;

namespace Moorfield.Core.Operations;

/// <summary>The image that a medium gets.</summary>
/// <param name="Lengths">Bytes of each part; one when it is whole.</param>
/// <param name="Write">Writes it, or its first part; null for that of the source.</param>
/// <param name="Removal">How the removal ended; null without one.</param>
/// <param name="Target">That is read while it is written; null for none.</param>
internal sealed record BuiltMediaImage(ImmutableArray<long> Lengths, Action<Stream>? Write, Outcome? Removal, ImageTarget? Target) : IDisposable
{
    /// <summary>Files of the parts; none when it is whole.</summary>
    internal ImmutableArray<string> Parts { get; init; } = [];

    /// <summary>The further parts: where each goes, and its file.</summary>
    /// <param name="first">Where the first one goes.</param>
    internal IEnumerable<(string Path, string File)> Further(string first) =>
        Parts.Skip(1).Select((file, i) => ($"{first[..^4]}{i + 2}{first[^4..]}", file));

    public void Dispose() => Target?.Dispose();
}

/// <summary>
/// Makes the image of a medium from that of another one. It is changed over the source, not in a copy: what stays of it goes through the disk
/// once, on its way to its place. Only converting and splitting, which libwim does from files, need some.
/// </summary>
/// <param name="source">On a medium; it is only read.</param>
/// <param name="removal">From the image; null to leave it as it is.</param>
public sealed class MediaImageBuilder(ImageTarget source, Func<ImageTarget, RemovalOperation>? removal)
{
    /// <summary>Parts of an image for file systems that take files below 4 GiB only, in bytes.</summary>
    public const long UsualPart = 3800L << 20;

    // Shares of the time, in bytes that are copied meanwhile.
    private const double ConvertingShare = 25, RemovingShare = 1 << 30;
    private readonly MediaImage _medium = source.Image.Medium ?? throw new ArgumentException("The image lies on no medium.", nameof(source));

    /// <summary>Numbers of the editions that are kept, in their order; empty for all.</summary>
    public ImmutableArray<int> Only { get; init; } = [];

    /// <summary>Most bytes of a part of the image; null to leave it whole.</summary>
    public long? Part { get; init; }

    /// <summary>Of an image that is converted.</summary>
    public ExportCompression Compression { get; init; } = new(WimCompression.Lzx);

    private bool Changes => removal is not null || !Only.IsEmpty || Part is not null;

    /// <summary>True if the image is an ESD, which is made a WIM on the way: an ESD is neither changed nor split.</summary>
    public bool Converts => Changes && source.Image.Wim.Header.IsSolidVersion;

    /// <summary>The new extension of the image's name; null for the present one.</summary>
    internal string? Ending => Part is not null ? "swm" : Converts ? "wim" : null;

    /// <summary>Where the result has its image, or the first part of it.</summary>
    public string ImagePath => Ending is { } ending ? $"{_medium.Image.Path[..^ending.Length]}{ending}" : _medium.Image.Path;

    /// <summary>Bytes that it needs for a time next to the result.</summary>
    internal long Needs => (!Changes ? 0 : Converts ? 4 * _medium.Image.Size : _medium.Image.Size / 4)
        + (Part is null ? 0 : 2 * _medium.Image.Size);

    /// <summary>Makes sure that it can begin.</summary>
    /// <exception cref="MoorfieldException">It cannot.</exception>
    internal void Check()
    {
        if (Changes && source.Image.Wim.Header.IsSplit)
        {
            throw new MoorfieldException(RefusalReason.Unsupported, $"{source.Name} has its install image in parts, which is not changed. "
                + "'moorfield media folder' takes its files out, and 'moorfield image join' makes one of the parts.");
        }
    }

    /// <summary>The steps, with the share of each.</summary>
    internal IEnumerable<(string, double)> Steps()
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
    }

    /// <summary>Makes it.</summary>
    /// <param name="work">Folder for what lies on the disk meanwhile.</param>
    internal BuiltMediaImage Make(string work, WriteInterceptor interceptor, ProgressEstimator meter, TimeProvider clock, CancellationToken stop)
    {
        if (!Changes)
            return new BuiltMediaImage([_medium.Image.Size], null, null, null);
        var target = new ImageTarget(Converts ? Convert(work, interceptor, meter, stop)
            : source.Image.OpenOver(Path.Combine(work, _medium.Image.Name), interceptor)) { Opened = source.Opened };
        try
        {
            Outcome? outcome = null;
            if (!Only.IsEmpty && !Converts)
                target.Image.Keep(Only);
            if (removal is not null)
            {
                meter.Next();
                outcome = Remove(target, removal, interceptor, clock, stop);
            }
            var small = FormatErrors.Wrap(source.Name, () => WimCompactor.Plan(target.Image.Wim));
            return Part is { } bytes ? Split(work, target, small, bytes, outcome, interceptor, meter, stop)
                : new BuiltMediaImage([small.Length], small.Write, outcome, target);
        }
        catch
        {
            target.Dispose();
            throw;
        }
    }

    private ImageFile Convert(string work, WriteInterceptor interceptor, ProgressEstimator meter, CancellationToken stop)
    {
        string copy = Path.Combine(work, "image.esd");
        string wim = Path.Combine(work, "install.wim");
        meter.Next();
        using (var folder = Folder.Open(work, interceptor))
        using (var writing = new InterceptedFileStream(folder.CreateFile(Path.GetFileName(copy)), interceptor, copy, stop))
            FileContent.Copy(source.FullPath, new CountedStream(writing, done => meter.At(done, _medium.Place.Length)), _medium.Place.Offset,
                _medium.Place.Length);
        meter.Next();
        ImageExport.Write(copy, source.Name, Only, wim, Compression, !source.Image.Wim.Header.Integrity.IsNone, interceptor, meter.At, stop);
        File.Delete(copy);
        return ImageFile.Open(wim, interceptor);
    }

    private static Outcome Remove(ImageTarget target, Func<ImageTarget, RemovalOperation> removal, WriteInterceptor interceptor, TimeProvider clock,
        CancellationToken stop)
    {
        var operation = removal(target);
        var proposal = operation.Plan();
        if (!proposal.HasEffect)
            return Outcome.Nothing;
        var outcome = operation.CarryOut(proposal, new RunSettings(null, interceptor) { AcceptsCosts = true, Begin = () => stop, Clock = clock })!;
        return outcome.Verified ? outcome : throw new MoorfieldException(ErrorKind.Failed,
            $"The image does not hold what was planned: {outcome.Discrepancies[0].Text} Nothing was written.");
    }

    /// <summary>Cuts the image into parts, which libwim does from a file.</summary>
    private BuiltMediaImage Split(
        string work, ImageTarget target, WimCompaction small, long bytes, Outcome? outcome, WriteInterceptor interceptor, ProgressEstimator meter,
        CancellationToken stop)
    {
        meter.Next();
        string whole = Path.Combine(work, "whole.wim");
        using (var folder = Folder.Open(work, interceptor))
        using (var writing = new InterceptedFileStream(folder.CreateFile(Path.GetFileName(whole)), interceptor, whole, stop))
            FormatErrors.Wrap(source.Name, () =>
            {
                small.Write(new CountedStream(writing, done => meter.At(done, 2 * small.Length)));
                return 0;
            });
        target.Dispose();
        var parts = ImageExport.Split(whole, source.Name, Path.Combine(work, "part.swm"), bytes, interceptor,
            (done, all) => meter.At(all + done, 2 * all), stop);
        File.Delete(whole);
        return new BuiltMediaImage([.. parts.Select(p => new FileInfo(p).Length)], stream => FileContent.Copy(parts[0], stream), outcome, null)
        {
            Parts = parts,
        };
    }
}
