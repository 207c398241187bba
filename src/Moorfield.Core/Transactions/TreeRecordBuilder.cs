using System.Security.Cryptography;
using Moorfield.Core.Reading;
using Moorfield.Core.Trees;
using Moorfield.Formats.Wim;

namespace Moorfield.Core.Transactions;

/// <summary>A content that comes from elsewhere.</summary>
/// <param name="Sha256">In lower-case hexadecimal; empty for an image.</param>
/// <param name="Sha1">For an image; zero otherwise.</param>
/// <param name="Open">Opens it where it lies.</param>
internal sealed record ForeignContent(string Sha256, Sha1Hash Sha1, Func<Stream> Open);

/// <summary>
/// Makes the record of a tree that comes from elsewhere, as the kind of target has it that it is for: contents, names and times are those of
/// the source, owner and security those of what lies next to it on the target.
/// </summary>
internal sealed class TreeRecordBuilder(WindowsTree target)
{
    private readonly Dictionary<string, ForeignContent> _contents = new(StringComparer.Ordinal);
    private readonly EntryFactory _entries = target.NewEntries();

    /// <summary>All contents of the trees that were made.</summary>
    internal IEnumerable<ForeignContent> Contents => _contents.Values;

    /// <summary>A folder with files.</summary>
    /// <param name="like">A folder next to it, and a file in that.</param>
    internal RecordedTree Folder(WindowsPath path, IEnumerable<OfferedFile> files, (WindowsPath? Folder, WindowsPath? File) like)
    {
        var all = files.ToList();
        CheckNames(path, all);
        var newest = all.Count == 0 ? default : all.MaxBy(f => f.Modified.Seconds)!.Modified;
        var entries = ImmutableArray.CreateBuilder<RecordedEntry>();
        var folders = new HashSet<string>(StringComparer.Ordinal);
        ulong number = 1;
        AddFolder("");
        foreach (var file in all)
        {
            int cut = file.Path.LastIndexOf('\\');
            AddFolder(cut < 0 ? "" : file.Path[..cut]);
            entries.Add(File(file.Path, file.Path[(cut + 1)..], file, like.File, number++));
        }
        return new RecordedTree(ParentTime(path), entries.ToImmutable());

        void AddFolder(string place)
        {
            if (folders.Contains(place))
                return;
            int cut = place.LastIndexOf('\\');
            if (place.Length > 0)
                AddFolder(cut < 0 ? "" : place[..cut]);
            folders.Add(place);
            entries.Add(_entries.Folder(place, place.Length == 0 ? path.Name : place[(cut + 1)..], newest, like.Folder, number++));
        }
    }

    /// <exception cref="MoorfieldException">Two names differ in case only, which Windows takes for one (refused).</exception>
    private static void CheckNames(WindowsPath path, List<OfferedFile> files)
    {
        var seen = new Dictionary<string, string>(StringComparer.OrdinalIgnoreCase);
        foreach (string file in files.Select(f => f.Path))
        {
            for (int end = file.IndexOf('\\', StringComparison.Ordinal); ; end = file.IndexOf('\\', end + 1))
            {
                string part = end < 0 ? file : file[..end];
                if (!seen.TryAdd(part, part) && (seen[part] != part || end < 0))
                {
                    throw new MoorfieldException(RefusalReason.CannotRecord,
                        $@"{path} has two names that differ in case only ('{seen[part]}' and '{part}'), so it cannot be brought from there: "
                        + "Windows would take them for one. Nothing was changed.");
                }
                if (end < 0)
                    break;
            }
        }
    }

    /// <summary>A single file.</summary>
    internal RecordedTree File(WindowsPath path, OfferedFile file, WindowsPath? like) =>
        new(ParentTime(path), [File("", path.Name, file, like, 1)]);

    private FileTime ParentTime(WindowsPath path) => target.Stat(path.Parent)?.Modified ?? default;

    private RecordedEntry File(string place, string name, OfferedFile file, WindowsPath? like, ulong number)
    {
        var content = Content(file);
        string digest = !_entries.UsesSha1 ? content.Sha256 : content.Sha1.IsZero ? "" : content.Sha1.ToString();
        return _entries.File(place, name, new NewFileEntry(file.Size, file.Holds, file.Modified, digest), like, number);
    }

    /// <summary>A content's digest, which is worked out by reading all of it.</summary>
    private ForeignContent Content(OfferedFile file)
    {
        using var stream = file.Open();
        using var hash = IncrementalHash.CreateHash(_entries.UsesSha1 ? HashAlgorithmName.SHA1 : HashAlgorithmName.SHA256);
        byte[] buffer = new byte[1 << 17];
        long length = 0;
        while (stream.Read(buffer) is > 0 and int got)
        {
            hash.AppendData(buffer, 0, got);
            length += got;
        }
        if (length != file.Size)
            throw new MoorfieldException(ErrorKind.Failed,
                $"'{file.Path}' has {length:N0} bytes where {file.Size:N0} were announced. Nothing was changed.");
        string text = Convert.ToHexStringLower(hash.GetHashAndReset());
        if (_entries.UsesSha1 && length == 0)
            return new ForeignContent("", default, file.Open); // an image has no content for what is empty
        if (!_contents.TryGetValue(text, out var content))
        {
            _contents[text] = content = _entries.UsesSha1 ? new ForeignContent("", Sha1Hash.Parse(text)!.Value, file.Open)
                : new ForeignContent(text, default, file.Open);
        }
        return content;
    }
}
