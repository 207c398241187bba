namespace Moorfield.Core.Reading;

/// <summary>Collects the notes of one reading.</summary>
internal sealed class SnapshotNotes
{
    private const int MaxPerCode = 100;
    private readonly List<SnapshotNote> _notes = [];

    internal void Add(string code, string text, PackageFullName? package = null) => _notes.Add(new SnapshotNote(code, text, package));

    /// <summary>Adds a note about one of many of a kind; past the first hundred of its code they are left out.</summary>
    internal void AddLimited(string code, string text, PackageFullName? package = null)
    {
        if (_notes.Count(n => n.Code == code) < MaxPerCode)
            Add(code, text, package);
    }

    internal void Add(SnapshotNotes others) => _notes.AddRange(others._notes);

    internal ImmutableArray<SnapshotNote> ToImmutable() => [.. _notes];
}
