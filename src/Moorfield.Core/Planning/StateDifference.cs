using Moorfield.Core.Layout;

namespace Moorfield.Core.Planning;

/// <summary>The changes that put the recorded state of one system back.</summary>
/// <param name="Left">The items that cannot come back.</param>
/// <param name="Notes">The items that stay as they are on purpose, a sentence each.</param>
/// <param name="Names">Display names by family.</param>
internal sealed record StateSteps(
    ImmutableArray<Change> Changes, ImmutableArray<RunFailure> Left, ImmutableArray<string> Notes, ImmutableDictionary<string, string> Names);

/// <summary>
/// Works out what differs between a recorded state of a system and what is there now, in all places of packages, and the changes that
/// put it back. What is no package's state is not looked at.
/// </summary>
/// <param name="then">The places as they were recorded.</param>
/// <param name="now">The places as they are.</param>
/// <param name="before">The recorded system.</param>
/// <param name="after">The system as it is.</param>
/// <param name="system">The recorded files and trees.</param>
/// <param name="guards">The guards whose values are put back as well.</param>
internal sealed class StateDifference(
    ISystemFacts then, ISystemFacts now, SystemSnapshot before, SystemSnapshot after, RecordedSystem system, IStateFacts facts,
    IReadOnlyCollection<Guard> guards)
{
    private readonly StateRegistry _registry = new(then, now, before, after, guards);
    private readonly List<Change> _rows = [];
    private readonly List<Change> _lists = [];
    private readonly List<Change> _files = [];
    private readonly List<RunFailure> _left = [];
    private readonly List<RunFailure> _leftRows = [];
    private readonly List<string> _notes = [];
    // Families of which nothing is put back.
    private readonly HashSet<string> _skipped = new(StringComparer.OrdinalIgnoreCase);

    /// <exception cref="MoorfieldException">Windows was updated since (refused), or something cannot be read.</exception>
    internal StateSteps Plan()
    {
        if (before.Build.Split('.')[0] != after.Build.Split('.')[0])
        {
            throw new MoorfieldException(RefusalReason.OtherVersion, $"{now.Name} was updated from build {before.Build} to {after.Build} since: the "
                + $"state "
                + "of another build is not put back. Use 'compare' to see what differs, and 'bring-back' for single packages.");
        }
        SkipRenewedComponents();
        Files();
        _registry.Plan();
        Rows();
        Lists();
        var changes = _registry.Changes.Concat(_rows).Concat(_lists).Concat(_files)
            .Where(c => !_skipped.Contains(c.Family) || IsBlock(c)).Select(c => c with { Edition = system.Edition });
        return new StateSteps([.. changes],
            [.. _left.Concat(_registry.Left).Concat(_leftRows).Select(l => l with { Edition = system.Edition })], [.. _notes, .. _registry.Notes],
            before.Packages.Concat(after.Packages).Select(p => KeyValuePair.Create(p.Family.ToString(), p.DisplayName))
                .DistinctBy(n => n.Key, StringComparer.OrdinalIgnoreCase).ToImmutableDictionary(StringComparer.OrdinalIgnoreCase));
    }

    private static bool IsBlock(Change change) =>
        change is HiveChange { Key: var key } && key.StartsWith(Places.Blocks + @"\", StringComparison.OrdinalIgnoreCase);

    private void Skip(string family, string what, string why)
    {
        if (_skipped.Add(family))
            _left.Add(new RunFailure(family, what, why));
    }

    /// <summary>A part of the system is what Windows' own servicing laid out: another version of it stays.</summary>
    private void SkipRenewedComponents()
    {
        foreach (var package in before.Packages.Where(p => p.Role == PackageRole.Component))
        {
            var present = after.Packages.Where(p => p.Family == package.Family && HasSystemFolder(p)).ToList();
            if (present.Count > 0 && present.TrueForAll(p => p.FullName != package.FullName))
                Keep(package, $"is {present[0].FullName.Version} now, which Windows put there; it stays.");
        }
        foreach (var package in after.Packages.Where(p => HasSystemFolder(p) && before.Packages.All(b => b.Family != p.Family)))
            Keep(package, "is a part of the system that came later; it stays.");

        void Keep(InstalledPackage package, string why)
        {
            if (_skipped.Add(package.Family.ToString()))
                _notes.Add($"{package.DisplayName} {why}");
        }
    }

    private static bool HasSystemFolder(InstalledPackage package) => package.AllTraces.Any(t => t.Kind == TraceKind.SystemFolder);

    // ---- files

    private void Files()
    {
        // Packages may have an alias in common.
        var recorded = system.Trees.DistinctBy(t => t.Path).ToDictionary(t => t.Path);
        foreach (var (family, path, place) in Trees(before).Where(t => !IsOfOther(t.Path)))
        {
            var there = now.Stat(path);
            var tree = recorded.TryGetValue(path, out var own) ? own.Tree
                : place.State == PlaceState.TreeWithFiles || (place.State == PlaceState.Existence && there is null) ? facts.Later(path) : null;
            if (tree is null)
            {
                if (there is null && place.IsPersonal)
                    _notes.Add($"Data that people had in {NameOf(family)} was not recorded and does not come back.");
                if (there is null && place.State == PlaceState.TreeWithFiles)
                {
                    Skip(family, NameOf(family), facts.WithFiles ? "cannot come back: its files could not be recorded."
                        : "cannot come back: its files are gone, and were not recorded (--with-files). "
                            + "'bring-back --from' can fetch them elsewhere.");
                }
                continue;
            }
            var state = there is null ? TreeState.Absent : now.Compare(path, tree);
            if (state == TreeState.Same || (place.State == PlaceState.TreeIfAbsent && state != TreeState.Absent))
                continue;
            if (!facts.HasContents(tree))
            {
                Skip(family, NameOf(family), "cannot come back: its files are no longer in the image, and are not in the vault.");
                continue;
            }
            if (state == TreeState.Different)
                _files.Add(new TreeRemoved(family, path));
            _files.Add(new TreeAdded(family, path, tree));
        }
        var known = Trees(before).Select(t => t.Path).ToHashSet();
        foreach (var (family, path, _) in Trees(after).Where(t => !t.Place.IsPersonal && !known.Contains(t.Path) && !IsOfOther(t.Path)))
            _files.Add(new TreeRemoved(family, path));
    }

    /// <summary>True if a path is in the profile of an account that there was not then, or is not now.</summary>
    private bool IsOfOther(WindowsPath path) => before.Accounts.Where(a => after.Account(a.Sid) is null)
        .Concat(after.Accounts.Where(a => before.Account(a.Sid) is null)).Select(a => a.Profile).OfType<WindowsPath>()
        .Any(p => path.ToString().StartsWith(p + @"\", StringComparison.OrdinalIgnoreCase));

    private static IEnumerable<(string Family, WindowsPath Path, PackagePlace Place)> Trees(SystemSnapshot snapshot) => snapshot.Packages
        .SelectMany(p => p.AllTraces.Select(t => (p.Family.ToString(), (t.Location as TreeLocation)?.Path, PackagePlaces.Of(t))))
        .Where(t => t.Path is not null && t.Item3 is { State: not PlaceState.Never }).Select(t => (t.Item1, t.Path!.Value, t.Item3!))
        .DistinctBy(t => t.Value);

    private string NameOf(string family) => before.Packages.Concat(after.Packages)
        .FirstOrDefault(p => p.Family.ToString().Equals(family, StringComparison.OrdinalIgnoreCase))?.DisplayName ?? family;

    private void Rows()
    {
        if (then.Repository is { } source && now.Repository is { } present)
        {
            var (changes, left) = StateRows.Plan(source, present, before, after, _skipped, NameOf);
            _rows.AddRange(changes);
            _leftRows.AddRange(left);
        }
        else if (then.Repository is not null)
        {
            _leftRows.Add(new RunFailure("", "The state repository", "cannot be read now: its rows do not come back."));
        }
    }

    // ---- lists

    private void Lists()
    {
        foreach (var path in PackagePlaces.All.Where(p => p.Container == PlaceContainer.List).Select(p => p.Folder(after.Roots)))
        {
            var (old, own) = (Entries(before, path), Entries(after, path));
            var listed = Listed(then, path);
            var present = Listed(now, path).ToHashSet(StringComparer.Ordinal);
            // Whose an entry is may have become known since.
            foreach (var (text, family) in own.Where(e => !listed.Contains(e.Key)))
                _lists.Add(new EntryRemoved(family, path, text));
            for (int i = 0; i < listed.Count; i++)
            {
                if (old.TryGetValue(listed[i], out string? family) && !present.Contains(listed[i]))
                    _lists.Add(new EntryAdded(family, path, listed[i], i, null));
            }
        }
    }

    /// <summary>The entries of a list; none when it cannot be read, which reading the system has reported.</summary>
    private static List<string> Listed(ISystemFacts facts, WindowsPath path)
    {
        try
        {
            return [.. (facts.Entries(path) ?? []).Select(e => e.Text)];
        }
        catch (MoorfieldException)
        {
            return [];
        }
    }

    private static Dictionary<string, string> Entries(SystemSnapshot snapshot, WindowsPath path) => snapshot.Packages
        .SelectMany(p => p.FamilyTraces.Where(t => t.Location is EntryLocation e && e.File == path)
            .Select(t => (((EntryLocation)t.Location).Text, Family: p.Family.ToString())))
        .DistinctBy(e => e.Text, StringComparer.Ordinal).ToDictionary(e => e.Text, e => e.Family, StringComparer.Ordinal);
}
