using Moorfield.Core.Storage;

namespace Moorfield.Core.Trees;

/// <summary>A recorded state, read like the system that it was taken from, as far as it goes.</summary>
public sealed class RecordedSystemTree : WindowsTree
{
    private readonly Func<string, Stream> _open;
    private readonly Dictionary<WindowsPath, StateEntry> _entries;
    private readonly ILookup<WindowsPath, string> _names;

    /// <param name="name">The name in messages.</param>
    /// <param name="path">Of the vault.</param>
    /// <param name="system">The recorded system.</param>
    /// <param name="open">Opens a content by its SHA-256.</param>
    public RecordedSystemTree(string name, string path, RecordedSystem system, Func<string, Stream> open)
    {
        Name = name;
        FullPath = path;
        _open = open;
        _entries = [];
        foreach (var entry in system.Entries)
        {
            _entries[entry.Path] = entry;
            // Folders on the way were there as well.
            for (var folder = entry.Path.Parent; !folder.IsRoot && _entries.TryAdd(folder, Folder(folder)); folder = folder.Parent)
            {
            }
        }
        _names = _entries.Keys.ToLookup(p => p.Parent, p => p.Name);
    }

    private static StateEntry Folder(WindowsPath path) => new(path, EntryKind.Folder, 0, default, null);

    public override string Name { get; }

    public override string FullPath { get; }

    public override EntryInfo? Stat(WindowsPath path) => path.IsRoot ? Info(Folder(path))
        : _entries.TryGetValue(path, out var entry) ? Info(entry) : null;

    private static EntryInfo Info(StateEntry entry) => new(
        entry.Kind, 0, 0, 0, entry.Kind == EntryKind.File ? entry.Size : 0, entry.Modified, entry.Modified, default, 0);

    public override IReadOnlyList<string> List(WindowsPath path) => [.. _names[path].Order(StringComparer.OrdinalIgnoreCase)];

    public override SafeFileHandle? OpenRead(WindowsPath path) =>
        _entries.TryGetValue(path, out var entry) && entry.Content is { } content ? FileContent.InMemory(_open(content)) : null;

    /// <summary>A folder whose files are only counted shows them as one.</summary>
    public override void Walk(WindowsPath path, Func<WindowsPath, bool> enters, Action<WindowsPath, string, EntryInfo> visit)
    {
        Enter(path, WindowsPath.Root);

        void Enter(WindowsPath folder, WindowsPath below)
        {
            if (_entries.TryGetValue(folder, out var entry) && entry is { Kind: EntryKind.Folder, Size: > 0 })
            {
                visit(below, "", Info(entry with { Kind = EntryKind.File }));
                return;
            }
            foreach (string name in List(folder))
            {
                var child = _entries[folder / name];
                if (child.Kind == EntryKind.File)
                    visit(below, name, Info(child));
                else if (child.Kind == EntryKind.Folder && enters(below / name))
                    Enter(folder / name, below / name);
            }
        }
    }

    public override WindowsPath ActualCasing(WindowsPath path) => _entries.TryGetValue(path, out var entry) ? entry.Path : path;

    public override TreeState Compare(WindowsPath path, RecordedTree recorded, bool exactly = false) =>
        throw new InvalidOperationException("A recorded state is compared by what is in it.");
}
