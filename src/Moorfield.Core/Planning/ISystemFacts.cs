using Moorfield.Formats.Defaults;

namespace Moorfield.Core.Planning;

/// <summary>Read-only access to the places of one system: now, or when its state was recorded.</summary>
internal interface ISystemFacts
{
    /// <summary>The name in messages.</summary>
    string Name { get; }

    /// <summary>The entry at a path; null when nothing is there.</summary>
    EntryInfo? Stat(WindowsPath path);

    /// <summary>The names in a folder, sorted; none when it is missing.</summary>
    IReadOnlyList<string> List(WindowsPath folder);

    /// <summary>How what is at a path relates to a record of it.</summary>
    TreeState Compare(WindowsPath path, RecordedTree recorded);

    /// <summary>A hive; null when it is not there.</summary>
    /// <exception cref="MoorfieldException">It cannot be read.</exception>
    IRegistry? Registry(WindowsPath hive);

    /// <summary>The entries of a list for new accounts; null when there is none.</summary>
    /// <exception cref="MoorfieldException">It cannot be read.</exception>
    ImmutableArray<ListEntry>? Entries(WindowsPath list);

    /// <summary>The state repository; null when there is none that is understood.</summary>
    IRepositoryFacts? Repository { get; }
}

/// <summary>
/// The rows of a state repository, and what rows would have to be added for a package. What is planned is noted with it, so that numbers which
/// are given are not given twice; the database itself stays as it is.
/// </summary>
/// <remarks>Members throw <see cref="RepositoryException"/>.</remarks>
internal interface IRepositoryFacts
{
    /// <summary>Where packages are, for the machine and for accounts.</summary>
    HashSet<RowsLocation> Locations(ImmutableArray<Account> accounts);

    /// <summary>The details of packages' rows.</summary>
    HashSet<(string FullName, string? Sid, string Detail)> Details();

    /// <summary>All rows that go with a removal.</summary>
    ImmutableArray<RecordedRow> Collect(RowsRemoved removal);

    /// <summary>Rows as they fit here; null when they refer to what is not here.</summary>
    /// <param name="from">Where they were collected.</param>
    /// <param name="fromSid">The account that they are of, if they are to be those of another.</param>
    ImmutableArray<RecordedRow>? Remap(ImmutableArray<RecordedRow> rows, IRepositoryFacts from, string? fromSid = null, string? toSid = null);

    /// <summary>The rows that make a package known, without those that are there.</summary>
    ImmutableArray<RecordedRow> MakePackage(PackageFullName fullName, string family, IEnumerable<string> applications);

    /// <summary>The row that registers a package for an account; null when that cannot be made.</summary>
    ImmutableArray<RecordedRow>? MakeRegistration(PackageFullName fullName, string sid);

    /// <summary>Notes that rows are going to be added.</summary>
    void NoteAdded(ImmutableArray<RecordedRow> rows);

    /// <summary>Notes that rows are going to be removed.</summary>
    void NoteRemoved(ImmutableArray<RecordedRow> rows);
}

/// <summary>The state repository cannot be worked with.</summary>
/// <param name="fault">The fault, without a full stop.</param>
internal sealed class RepositoryException(string system, string fault, Exception inner)
    : MoorfieldException(ErrorKind.Failed, $"{system}: the state repository: {fault}. Nothing was changed.", inner)
{
    internal string Fault => fault;
}

/// <summary>The sources from which a package can be brought back, and the records of what is to be added.</summary>
internal interface IBringBackFacts : ISystemFacts
{
    /// <summary>The packages whose files are on the target.</summary>
    IPackageSource Own { get; }

    /// <summary>Where packages may be taken from; none for those whose folders are on the target.</summary>
    IReadOnlyList<IPackageSource> Others { get; }

    /// <summary>Restore points of runs that removed packages from the target, newest first.</summary>
    IReadOnlyList<IPackageSource> Recorded { get; }

    /// <summary>The record of a folder with the files of a part of a package, and the bytes that these take.</summary>
    /// <param name="like">A folder next to it, and a file in that.</param>
    (RecordedTree Tree, long Room) MakeFolder(
        WindowsPath path, IPackageSource from, PackageFullName part, (WindowsPath? Folder, WindowsPath? File) like);

    /// <summary>The record of a copy of a part's manifest; null when it has none.</summary>
    RecordedTree? MakeManifest(WindowsPath path, IPackageSource from, PackageFullName part, WindowsPath? like);

    /// <summary>The state repository of where packages are taken from; null when it has none.</summary>
    IRepositoryFacts? RepositoryOf(IPackageSource source);
}

/// <summary>Additional facts about a recorded state.</summary>
internal interface IStateFacts
{
    /// <summary>True if files were recorded as well.</summary>
    bool WithFiles { get; }

    /// <summary>A tree that a later run recorded when it removed it; null when none did.</summary>
    RecordedTree? Later(WindowsPath path);

    /// <summary>True if all contents of a tree can be had.</summary>
    bool HasContents(RecordedTree tree);
}

/// <summary>The facts about one system that an undo needs.</summary>
internal interface IUndoFacts
{
    /// <summary>True if something is at a path.</summary>
    bool Exists(WindowsPath path);

    /// <summary>True if an undo of the run failed in part before.</summary>
    bool UndoFailed { get; }

    /// <summary>The states of changes.</summary>
    IEnumerable<(Change Change, ChangeState State)> StatesOf(ImmutableArray<Change> changes);

    /// <summary>How a file relates to what a run made of it.</summary>
    /// <param name="interrupted">True if the run may have been interrupted while it wrote the file; else what is between its two contents is
    /// foreign.</param>
    FileState StateOf(Vaults.ReplacedFile file, bool interrupted);

    /// <summary>The changes that put a recorded state in place of what is in conflict with it; null when its hive is not there.</summary>
    ImmutableArray<Change>? OverwriteWith(HiveChange change);

    /// <summary>True if all contents of a tree can be had.</summary>
    bool HasContents(RecordedTree tree);

    /// <summary>True if a tree whose contents cannot be had is not registered again either.</summary>
    bool LeavesOutIncomplete { get; }

    /// <summary>True if the content that a file had before a run can be had.</summary>
    bool HasBefore(Vaults.ReplacedFile file);
}

/// <summary>How a file relates to what a run made of it.</summary>
internal enum FileState
{
    /// <summary>As before the run.</summary>
    Before,
    /// <summary>As the run leaves it.</summary>
    After,
    /// <summary>The run was interrupted while it wrote this file.</summary>
    HalfWritten,
    /// <summary>Something else.</summary>
    Foreign,
}
