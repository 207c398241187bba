using Microsoft.Data.Sqlite;
using Moorfield.Core.Layout;
using Moorfield.Core.Planning;
using Moorfield.Core.Reading;
using Moorfield.Core.Trees;
using Moorfield.Formats.Defaults;

namespace Moorfield.Core.Transactions;

/// <summary>The facts of a system that lies in a tree. What was opened stays open until it is disposed.</summary>
internal class SystemFacts(WindowsTree tree, PackageRoots roots) : ISystemFacts, IDisposable
{
    private readonly Dictionary<WindowsPath, Hive?> _hives = [];
    private readonly Lazy<RepositoryFacts?> _repository = new(() => RepositoryFacts.Open(tree, roots.Database));

    public string Name => tree.Name;

    public IRepositoryFacts? Repository => _repository.Value;

    public EntryInfo? Stat(WindowsPath path) => tree.Stat(path);

    public IReadOnlyList<string> List(WindowsPath folder) => tree.List(folder);

    public TreeState Compare(WindowsPath path, RecordedTree recorded) => tree.Compare(path, recorded);

    public IRegistry? Registry(WindowsPath hive)
    {
        if (!_hives.TryGetValue(hive, out var open))
            _hives[hive] = open = HiveFile.OpenRead(tree, hive, new SnapshotNotes());
        return open;
    }

    public ImmutableArray<ListEntry>? Entries(WindowsPath list) => DefaultLists.Open(tree, list)?.Entries;

    public void Dispose()
    {
        Dispose(disposing: true);
        GC.SuppressFinalize(this);
    }

    protected virtual void Dispose(bool disposing)
    {
        foreach (var hive in _hives.Values)
            hive?.Dispose();
        if (_repository.IsValueCreated)
            _repository.Value?.Dispose();
    }
}

/// <summary>The rows of a state repository. What is noted is done in a copy in memory, so that numbers fit.</summary>
internal sealed class RepositoryFacts : IRepositoryFacts, IDisposable
{
    private readonly string _system;
    private readonly StateRepository _repository;
    private readonly RepositoryRows _rows;

    private RepositoryFacts(string system, StateRepository repository)
    {
        (_system, _repository) = (system, repository);
        _rows = new RepositoryRows(repository.Connection);
    }

    private SqliteConnection Connection => _repository.Connection;

    /// <summary>Null when there is none that is understood.</summary>
    internal static RepositoryFacts? Open(WindowsTree tree, WindowsPath database)
    {
        if (StateRepository.Open(tree, database, new SnapshotNotes()) is not { } repository)
            return null;
        try
        {
            return Wrapped(tree.Name, () => new RepositoryFacts(tree.Name, repository));
        }
        catch
        {
            repository.Dispose();
            throw;
        }
    }

    public HashSet<RowsLocation> Locations(ImmutableArray<Account> accounts) =>
        [.. _repository.ReadTraces(accounts, new FullNames(), new SnapshotNotes())?.SelectMany(g => g).Select(t => (RowsLocation)t.Location) ?? []];

    public HashSet<(string FullName, string? Sid, string Detail)> Details() => Wrapped(_rows.Details);

    public ImmutableArray<RecordedRow> Collect(RowsRemoved removal) => Wrapped(() => _rows.Collect(removal));

    public ImmutableArray<RecordedRow>? Remap(ImmutableArray<RecordedRow> rows, IRepositoryFacts from, string? fromSid = null,
        string? toSid = null) =>
        Wrapped(() => new RepositoryRemapper(Connection).Remap(rows, ((RepositoryFacts)from).Connection, fromSid, toSid));

    public ImmutableArray<RecordedRow> MakePackage(PackageFullName fullName, string family, IEnumerable<string> applications) =>
        Wrapped(() => new RepositoryRemapper(Connection).Package(fullName.ToString(), family, applications));

    public ImmutableArray<RecordedRow>? MakeRegistration(PackageFullName fullName, string sid) =>
        Wrapped(() => new RepositoryRemapper(Connection).Registration(fullName.ToString(), sid));

    public void NoteAdded(ImmutableArray<RecordedRow> rows) => Wrapped(() => _rows.Add(rows));

    public void NoteRemoved(ImmutableArray<RecordedRow> rows) => Wrapped(() => _rows.Remove(rows));

    private void Wrapped(Action work) => Wrapped(() =>
    {
        work();
        return true;
    });

    private T Wrapped<T>(Func<T> work) => Wrapped(_system, work);

    private static T Wrapped<T>(string system, Func<T> work)
    {
        try
        {
            return work();
        }
        catch (SqliteException e)
        {
            throw new RepositoryException(system, RepositoryGuard.Describe(e), e);
        }
    }

    public void Dispose() => _repository.Dispose();
}
