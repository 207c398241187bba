namespace Moorfield.Formats.Media;

/// <summary>A file that a medium gets next to those that it has.</summary>
/// <param name="Path">On the medium, with slashes; folders that are not there are made.</param>
/// <param name="Length">Bytes.</param>
public sealed record MediumAddition(string Path, long Length);

/// <summary>The changes to a medium that is written again.</summary>
public sealed record MediumChanges
{
    /// <summary>A new label; null for the one that it has.</summary>
    public string? Label { get; init; }

    /// <summary>The new extension of its image's name, as long as the present one; null to leave it.</summary>
    public string? Ending { get; init; }

    /// <summary>Files that are added.</summary>
    public ImmutableArray<MediumAddition> Added { get; init; } = [];
}

/// <summary>A file or folder that is added, and what is added below it.</summary>
internal sealed class AddedNode(string path, bool isFolder)
{
    internal string Path => path;

    internal string Name => path[(path.LastIndexOf('/') + 1)..];

    internal bool IsFolder => isFolder;

    internal SortedDictionary<string, AddedNode> Below { get; } = new(StringComparer.OrdinalIgnoreCase);

    internal long Length { get; init; }

    /// <summary>Of the content, where it comes to lie.</summary>
    internal uint Block { get; set; }

    private const int MaxName = 64; // in a Joliet view

    /// <summary>Orders what is added by the folders of the medium that get it.</summary>
    /// <exception cref="ArgumentException">A path cannot be one, or is taken; the message says why.</exception>
    internal static Dictionary<string, AddedNode> Order(Medium medium, ImmutableArray<MediumAddition> added)
    {
        var folders = new Dictionary<string, AddedNode>(StringComparer.OrdinalIgnoreCase);
        foreach (var file in added)
        {
            string[] names = file.Path.Split('/');
            if (names.Any(n => !IsName(n)) || names.Length > 8)
            {
                throw new ArgumentException($"'{file.Path}' is not a path for a medium: names of 1 to {MaxName} letters, with slashes between them, "
                    + "in at most seven folders.");
            }
            // The part of the path that is there already.
            int there = 0;
            while (there < names.Length && medium.Find(string.Join('/', names[..(there + 1)])) is { } entry)
            {
                if (!entry.IsFolder || there == names.Length - 1)
                    throw new ArgumentException($"{entry.Path} is on the medium already, and stays as it is.");
                there++;
            }
            string last = string.Join('/', names[..there]);
            if (!folders.TryGetValue(last, out var node))
                folders[last] = node = new AddedNode(last, true);
            for (int i = there; i < names.Length; i++)
            {
                bool isFile = i == names.Length - 1;
                if (node.Below.TryGetValue(names[i], out var next) && (isFile || !next.IsFolder))
                    throw new ArgumentException($"{file.Path} would be added twice.");
                if (next is null)
                    node.Below[names[i]] = next = new AddedNode(string.Join('/', names[..(i + 1)]), !isFile) { Length = isFile ? file.Length : 0 };
                node = next;
            }
        }
        return folders;
    }

    private static bool IsName(string name) => name.Length is > 0 and <= MaxName && name is not ("." or "..") && name.Trim() == name
        && !name.EndsWith('.') && !name.Any(c => c < ' ' || "<>:\"|?*\\;".Contains(c) || char.IsSurrogate(c));
}
