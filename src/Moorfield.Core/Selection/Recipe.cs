using System.Security.Cryptography;
using Moorfield.Core.Storage;

namespace Moorfield.Core.Selection;

/// <summary>A check of the medium that a recipe builds.</summary>
public enum RecipeCheck
{
    /// <summary>Its editions are as the briefs want them.</summary>
    Brief,
    /// <summary>Nothing that the briefs do not want comes when somebody signs in for the first time.</summary>
    SignIn,
}

/// <summary>A brief that a recipe follows.</summary>
/// <param name="Place">A path in the folder of the recipe, or an https address.</param>
/// <param name="Sha256">64 hexadecimal digits; null for a file.</param>
public sealed record RecipeBrief(string Place, string? Sha256);

/// <summary>
/// How an install medium is built, in a file: from what, how, and what is checked afterwards. All paths are in the folder of the recipe, or below.
/// </summary>
/// <param name="Path">Of the recipe, as it was given.</param>
/// <param name="Sha256">Of its own bytes.</param>
/// <param name="Source">Path of the ISO, as the recipe gives it.</param>
/// <param name="SourceSha256">64 small hexadecimal digits.</param>
/// <param name="Output">Path of the ISO to write, as the recipe gives it.</param>
public sealed record Recipe(string Path, string Sha256, string Source, string SourceSha256, string Output)
{
    /// <summary>Null when it has none.</summary>
    public string? Title { get; init; }

    /// <summary>That it follows; none to leave the packages as they are.</summary>
    public ImmutableArray<RecipeBrief> Briefs { get; init; } = [];

    /// <summary>Numbers or names; all editions when empty.</summary>
    public ImmutableArray<string> Editions { get; init; } = [];

    /// <summary>True if the other editions go.</summary>
    public bool OnlyEditions { get; init; }

    /// <summary>Null for that of the source.</summary>
    public string? Label { get; init; }

    /// <summary>In which names of packages are read, the first that a package has; the system's own when empty.</summary>
    public ImmutableArray<string> Languages { get; init; } = [];

    /// <summary>Files that are added: each one's path in the recipe's folder, and on the medium.</summary>
    public ImmutableArray<(string File, string Path)> Files { get; init; } = [];

    /// <summary>MiB of a part of the image; null to leave it whole.</summary>
    public int? Part { get; init; }

    /// <summary>How an ESD is compressed when it becomes a WIM: lzx, lzx-thorough, xpress or none.</summary>
    public string Compression { get; init; } = "lzx";

    /// <summary>True if frameworks go that no package needs afterwards.</summary>
    public bool Sweep { get; init; }

    /// <summary>The checks that follow the building.</summary>
    public ImmutableArray<RecipeCheck> Checks { get; init; } = [];

    /// <summary>Its file name.</summary>
    public string FileName => System.IO.Path.GetFileName(Path);

    /// <summary>The path from here of something that the recipe names.</summary>
    public string Resolve(string place) => System.IO.Path.Combine(System.IO.Path.GetDirectoryName(Path) ?? "", place);

    /// <summary>The path from here of something that goes into the result, or is it: a link may not lead out of the recipe's folder.</summary>
    /// <exception cref="MoorfieldException">It leads out.</exception>
    public string ResolveInside(string place)
    {
        string path = Resolve(place);
        string folder = System.IO.Path.GetDirectoryName(System.IO.Path.GetFullPath(Path))!;
        return !RegularFile.LeadsOut(path, folder) ? path
            : throw new MoorfieldException(ErrorKind.InvalidUsage, $"{FileName}: {place} is a link that leads out of the folder of the recipe.");
    }

    /// <exception cref="MoorfieldException">It cannot be read, or is no recipe; the message gives line and column.</exception>
    public static Recipe Load(string path)
    {
        byte[] content = YamlReader.ReadFile(path, path, "recipe");
        return new RecipeReader(path).Read(YamlReader.Decode(content, path), Convert.ToHexStringLower(SHA256.HashData(content)));
    }
}
