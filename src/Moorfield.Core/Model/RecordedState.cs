namespace Moorfield.Core.Model;

/// <summary>The package state of a target, recorded by hand: nothing was changed.</summary>
/// <param name="Kind">Of the target: volume, disk or image.</param>
/// <param name="WithFiles">True if the packages' folders were recorded with all that is in them.</param>
public sealed record RecordedState(string Kind, bool WithFiles, ImmutableArray<RecordedSystem> Systems);

/// <summary>One system of a recorded state.</summary>
/// <param name="Edition">Number of the edition; null on a volume or disk.</param>
/// <param name="Entries">The entries from which its packages' state is read.</param>
/// <param name="Trees">The trees that can be put back as they were.</param>
public sealed record RecordedSystem(int? Edition, string Name, ImmutableArray<StateEntry> Entries, ImmutableArray<StateTree> Trees);

/// <summary>A file or folder of a recorded state.</summary>
/// <param name="Size">Bytes; of a folder, those in its files.</param>
/// <param name="Content">SHA-256 under which the vault has it; null when it was not kept.</param>
public sealed record StateEntry(WindowsPath Path, EntryKind Kind, long Size, FileTime Modified, string? Content);

/// <summary>A recorded tree that belongs to a package.</summary>
public sealed record StateTree(string Family, WindowsPath Path, RecordedTree Tree);
