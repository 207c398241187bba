using Moorfield.Core.Storage;
using Moorfield.Formats.Media;

namespace Moorfield.Core.Images;

/// <summary>The install image of a medium.</summary>
/// <param name="Whole">All of the medium.</param>
/// <param name="Image">The file with the image.</param>
/// <param name="Place">Where it lies in the medium's file.</param>
public sealed record MediaImage(Medium Whole, MediumEntry Image, MediumExtent Place)
{
    /// <summary>Where the further parts of a split image lie, in their order.</summary>
    public ImmutableArray<MediumExtent> Parts { get; init; } = [];

    /// <summary>The names of install images on a medium. [doc]</summary>
    private static readonly string[] Names = ["sources/install.wim", "sources/install.esd", "sources/install.swm"];

    /// <summary>The install image in a folder with the files of a medium; null when the folder is not one.</summary>
    /// <exception cref="MoorfieldException">It has several.</exception>
    internal static string? InFolder(string folder)
    {
        if (!Directory.Exists(folder) || Below(folder, "windows").Any())
            return null;
        var found = Below(folder, "sources").SelectMany(sources => Names.SelectMany(n => Below(sources, n["sources/".Length..]))).Where(File.Exists)
            .ToList();
        return found.Count < 2 ? found.FirstOrDefault() : throw new MoorfieldException(ErrorKind.InvalidUsage,
            $"{folder} has several install images: {TextFormat.List(found.Select(Path.GetFileName).OfType<string>(), 3)}. It is not known which "
            + "counts.");
    }

    private static IEnumerable<string> Below(string folder, string name) => Directory.Exists(folder)
        ? Directory.EnumerateFileSystemEntries(folder).Where(e => Path.GetFileName(e).Equals(name, StringComparison.OrdinalIgnoreCase)) : [];

    /// <summary>Finds the install image of a medium.</summary>
    /// <param name="name">Of the file, for messages.</param>
    /// <exception cref="MoorfieldException">The medium is damaged, or has none, or several.</exception>
    internal static MediaImage Find(string name, SafeFileHandle file)
    {
        var medium = FormatErrors.Wrap(name, () => Medium.Read(file));
        var found = medium.Entries.Where(e => !e.IsFolder && Names.Contains(e.Path, StringComparer.OrdinalIgnoreCase)).ToList();
        if (found.Count != 1)
        {
            throw new MoorfieldException(ErrorKind.InvalidUsage, found.Count == 0
                ? $"{name} is a medium without an install image: it has no {TextFormat.List(Names, 3)}."
                : $"{name} has several install images: {TextFormat.List(found.Select(f => f.Path), 3)}. It is not known which counts.");
        }
        return found[0].Whole is { } place ? new MediaImage(medium, found[0], place) { Parts = Further(medium, found[0]) }
            : throw new MoorfieldException(ErrorKind.Failed, $"{name} keeps {found[0].Path} in pieces, which is not understood.");
    }

    private static ImmutableArray<MediumExtent> Further(Medium medium, MediumEntry first)
    {
        var parts = ImmutableArray.CreateBuilder<MediumExtent>();
        if (first.Path.EndsWith(".swm", StringComparison.OrdinalIgnoreCase))
        {
            while (medium.Find($"{first.Path[..^4]}{parts.Count + 2}{first.Path[^4..]}")?.Whole is { } part)
                parts.Add(part);
        }
        return parts.ToImmutable();
    }
}
