using System.Collections.Immutable;
using Moorfield.Formats.Appx;

namespace Moorfield.Core.Systems;

/// <summary>Collects the notes of one reading.</summary>
internal sealed class SnapshotNotes
{
    private readonly List<SnapshotNote> _notes = [];

    internal void Add(string code, string text, PackageFullName? package = null) => _notes.Add(new SnapshotNote(code, text, package));

    internal void Add(SnapshotNotes others) => _notes.AddRange(others._notes);

    internal ImmutableArray<SnapshotNote> ToImmutable() => [.. _notes];
}
