using Moorfield.Core.Storage;
using Moorfield.Formats.Wim;

namespace Moorfield.Core.Images;

/// <summary>Writes an image file again without what nothing refers to any more.</summary>
public static class ImageCompaction
{
    /// <summary>
    /// Copies what the image refers to, as stored, into a file that takes its final name only when it is whole and on the disk.
    /// </summary>
    /// <param name="path">The image's own path: it is replaced, and keeps its owner and mode. Another path must not exist.</param>
    /// <param name="stop">Asked at each write.</param>
    /// <returns>Bytes of the new file.</returns>
    /// <exception cref="MoorfieldException">The image stays what it is.</exception>
    public static long Copy(ImageFile image, string path, WriteInterceptor interceptor, CancellationToken stop = default)
    {
        image.CheckChangeable();
        string full = Path.GetFullPath(path);
        using var folder = Folder.Open(Path.GetDirectoryName(full)!, interceptor);
        string name = Path.GetFileName(full);
        bool replaces = full == image.FullPath;
        if (!replaces && folder.Stat(name) is not null)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{full} is there already. Name another file, or delete it.");
        if (replaces && folder.Stat(name)?.Kind == EntryKind.Link)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{full} is a link. Name the file that it leads to.");
        string part = PartOf(name);
        long length = 0;
        AtomicFile.Place(folder, name, () =>
        {
            length = Write(image, folder, part, full, interceptor, stop);
            if (replaces && folder.Stat(name) is { } before)
                folder.SetOwnerAndMode(part, before.Uid, before.Gid, before.Mode, EntryKind.File);
        }, part);
        folder.Flush();
        return length;
    }

    /// <summary>The contents of a file, in its order: SHA-1, bytes and references of each content, then of each edition's metadata.</summary>
    internal static IEnumerable<(Sha1Hash Hash, long Bytes, uint References)> Contents(WimFile wim) =>
        wim.Blobs.Entries.Where(e => !e.IsMetadata).Concat(wim.Blobs.Metadata).Select(e => (e.Hash, e.Size, e.References));

    private static string PartOf(string name) => $".{name}{AtomicFile.PartName}";

    /// <summary>Takes away what a compacting left next to an image that was interrupted.</summary>
    internal static void ClearPart(ImageFile image)
    {
        using var folder = Folder.Open(Path.GetDirectoryName(image.FullPath)!, new WriteInterceptor());
        AtomicFile.DeletePart(folder, PartOf(Path.GetFileName(image.FullPath)));
    }

    private static long Write(ImageFile image, Folder folder, string part, string full, WriteInterceptor interceptor, CancellationToken stop)
    {
        using var output = new InterceptedFileStream(folder.CreateFile(part, AtomicFile.PublicMode), interceptor, full, stop);
        return FormatErrors.Wrap(image.Name, () =>
        {
            WimCompactor.Plan(image.Wim).Write(output);
            output.Flush();
            using var copy = WimFile.Open(output.File);
            if (copy.Header.ImageCount != image.Wim.Header.ImageCount || !Contents(copy).SequenceEqual(Contents(image.Wim)))
                throw new InvalidDataException("would not be the same after compacting");
            for (int number = 1; number <= copy.Header.ImageCount; number++)
                copy.ReadMetadata(number);
            return output.Length;
        }, "It stays as it is.");
    }
}
