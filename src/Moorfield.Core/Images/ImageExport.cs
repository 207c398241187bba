using Moorfield.Core.Storage;
using Moorfield.Formats.Native;
using Moorfield.Formats.Wim;

namespace Moorfield.Core.Images;

/// <summary>How a new image file is compressed.</summary>
/// <param name="IsThorough">Some four times as slow, a few per cent smaller.</param>
public readonly record struct ExportCompression(WimCompression Kind, bool IsThorough = false);

/// <summary>Writes editions into other image files, by libwim. What is under way has another name until it is whole.</summary>
public static class ImageExport
{
    /// <summary>Writes editions of an image file into a new one.</summary>
    /// <param name="path">Of the source.</param>
    /// <param name="name">Of the source, for messages.</param>
    /// <param name="editions">Numbers; empty for all.</param>
    /// <param name="progress">Bytes done, and how many there are.</param>
    /// <exception cref="MoorfieldException">Nothing is left of what was begun.</exception>
    public static void Write(
        string path, string name, IReadOnlyList<int> editions, string output, ExportCompression compression, bool integrity,
        WriteInterceptor interceptor,
        Action<long, long> progress, CancellationToken stop) => NewFile.Write(output, interceptor, part => WrapErrors(name, () => WimExport.Write(
            path, editions, part, compression.Kind, compression.IsThorough, integrity, Watching(progress, stop))));

    private static WimExport.Progress Watching(Action<long, long> progress, CancellationToken stop) => (done, total) =>
    {
        if (total > 0)
            progress(done, total);
        return !stop.IsCancellationRequested;
    };

    /// <summary>Writes an image file in parts: <c>name.swm</c>, <c>name2.swm</c> and so on.</summary>
    /// <param name="first">Path of the first part; none of the parts may be there.</param>
    /// <param name="progress">Bytes done, and how many there are.</param>
    /// <returns>Paths of the parts.</returns>
    /// <exception cref="MoorfieldException">Nothing is left of what was begun.</exception>
    public static ImmutableArray<string> Split(
        string path, string name, string first, long partBytes, WriteInterceptor interceptor, Action<long, long> progress, CancellationToken stop)
    {
        if (Parts(first) is [var there, ..])
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{there} is there already. Name another file, or delete it.");
        string full = Path.GetFullPath(first);
        using var work = WorkFolder.For(full, interceptor);
        WrapErrors(name, () => WimExport.Split(path, Path.Combine(work.FullPath, Path.GetFileName(full)), partBytes, Watching(progress, stop)));
        var names = Parts(Path.Combine(work.FullPath, Path.GetFileName(full))).ConvertAll(p => Path.GetFileName(p));
        // Without the first part the others are no set that could be taken for a whole one.
        var moved = new Stack<string>();
        try
        {
            foreach (string part in names.Skip(1).Append(names[0]))
            {
                work.MoveOut(part);
                moved.Push(part);
            }
        }
        catch (MoorfieldException)
        {
            foreach (string part in moved)
                work.MoveBack(part);
            throw;
        }
        return [.. Parts(full)];
    }

    /// <summary>Writes the parts of a split image file as one.</summary>
    /// <param name="first">Path of the first part; the others lie next to it.</param>
    /// <param name="progress">Bytes done, and how many there are.</param>
    /// <exception cref="MoorfieldException">Nothing is left of what was begun.</exception>
    public static void Join(string first, string output, WriteInterceptor interceptor, Action<long, long> progress, CancellationToken stop) =>
        NewFile.Write(output, interceptor, part => WrapErrors(
            Path.GetFileName(first), () => WimExport.Join([.. Parts(first)], part, Watching(progress, stop))));

    /// <summary>The parts that lie next to the first one, in their order.</summary>
    private static List<string> Parts(string first)
    {
        string start = Path.Combine(Path.GetDirectoryName(Path.GetFullPath(first))!, Path.GetFileNameWithoutExtension(first));
        string ending = Path.GetExtension(first);
        var parts = new List<string>();
        for (int i = 1; ; i++)
        {
            string part = i == 1 ? Path.GetFullPath(first) : $"{start}{i}{ending}";
            if (!File.Exists(part))
                return parts;
            parts.Add(part);
        }
    }

    /// <summary>Opens the further parts of a split image; none when it is not split, or when not all of them are there.</summary>
    internal static ImmutableArray<SafeFileHandle> OpenParts(string first)
    {
        if (!Path.GetExtension(first).Equals(".swm", StringComparison.OrdinalIgnoreCase))
            return [];
        var parts = ImmutableArray.CreateBuilder<SafeFileHandle>();
        foreach (string path in Parts(first).Skip(1))
        {
            var part = RegularFile.Open(path, LibC.ReadOnly);
            if (part is null || !RegularFile.Is(part))
            {
                part?.Dispose();
                break; // what lies in it is then in another part, and said to be
            }
            parts.Add(part);
        }
        return parts.ToImmutable();
    }

    private static void WrapErrors(string name, Action write)
    {
        try
        {
            FormatErrors.Wrap(name, () =>
            {
                write();
                return 0;
            });
        }
        catch (OperationCanceledException)
        {
            throw new MoorfieldException(ErrorKind.Stopped, "Stopped. Nothing was written.");
        }
    }
}
