namespace Moorfield.Core.Layout;

/// <summary>The kind of storage of a place.</summary>
internal enum PlaceContainer
{
    /// <summary>The machine's SOFTWARE hive.</summary>
    Software,
    /// <summary>An account's classes hive, UsrClass.dat.</summary>
    Classes,
    /// <summary>An account's own hive, NTUSER.DAT.</summary>
    UserHive,
    /// <summary>A folder of the volume, or of an account's profile.</summary>
    Folder,
    /// <summary>The state repository.</summary>
    Rows,
    /// <summary>A list file for new accounts.</summary>
    List,
}

/// <summary>How the entries of a place are named.</summary>
internal enum PlaceNames
{
    /// <summary>Each entry has a full name.</summary>
    FullName,
    /// <summary>Each entry has a family name.</summary>
    Family,
    /// <summary>A key with a family name, and in it a key for each full name.</summary>
    FamilyAndFullName,
    /// <summary>The entry's name, or its value <see cref="PackagePlace.OwnerValue"/>, has a full or family name in it.</summary>
    Text,
    /// <summary>Each entry is named by the SID of a family's app container.</summary>
    Container,
    /// <summary>The name says nothing of the package: a separate reader finds out whose it is.</summary>
    Other,
}

/// <summary>The part of a place that a recorded state keeps.</summary>
internal enum PlaceState
{
    /// <summary>The hive, database or list that holds it, from which differences are put back.</summary>
    Compared,
    /// <summary>Whole trees, always.</summary>
    Tree,
    /// <summary>Whole trees, but what is there now is good enough whatever is in it.</summary>
    TreeIfAbsent,
    /// <summary>Whole trees if files were asked for; otherwise those that a later removal recorded.</summary>
    TreeWithFiles,
    /// <summary>Only that it exists; what a later removal recorded comes back.</summary>
    Existence,
    /// <summary>Only that it exists; it is never put back.</summary>
    Never,
}

/// <summary>The source of an entry when a package is brought back.</summary>
/// <param name="Part">The full name that the entry is for.</param>
/// <param name="Folder">The folder of that part, as Windows writes it.</param>
/// <param name="Manifest">The path of its manifest, as Windows writes it.</param>
internal sealed record PlaceEntry(PackageFullName Part, string DisplayName, string Folder, string Manifest, DateTimeOffset Now);

/// <summary>One place where Windows registers, lists, stages or remembers packages, with all that the program does with it.</summary>
/// <param name="Id">Its name in docs/on-disk.md.</param>
/// <param name="Scope">Whose it is.</param>
/// <param name="Path">The key, folder or file; below the profile for a folder of an account. {sid} stands for its SID, {packages} and {repository}
/// for <see cref="PackageRoots"/>, and * for any key.</param>
internal sealed record PackagePlace(
    string Id, TraceKind Kind, TraceScope Scope, PlaceContainer Container, string Path, PlaceNames Names = PlaceNames.FullName)
{
    internal const string PackagesMark = "{packages}", RepositoryMark = "{repository}";
    private const string SidMark = "{sid}", AnyKey = @"\*";

    /// <summary>The value of an entry that gives the package's folder; null when there is none.</summary>
    internal string? FolderValue { get; init; }

    /// <summary>The value of an entry that names its package; null when the entry's own name does.</summary>
    internal string? OwnerValue { get; init; }

    /// <summary>Text that may come before the family in an entry's name; null for none.</summary>
    internal string? Prefix { get; init; }

    /// <summary>The kind of leftover of an entry without its package; null when it never is one, as <see cref="NoLeftoverBecause"/> says.</summary>
    internal LeftoverKind? Leftover { get; init; }

    internal string? NoLeftoverBecause { get; init; }

    /// <summary>Why removing a package leaves its entry here; null when it is removed.</summary>
    internal string? StaysBecause { get; init; }

    /// <summary>True if it is a person's data, which stays when that is asked for.</summary>
    internal bool IsPersonal { get; init; }

    /// <summary>True if it is a value of a key, rather than a key.</summary>
    internal bool IsValue { get; init; }

    internal PlaceState State { get; init; }

    /// <summary>Makes the values of an entry for a package that is brought back; null when none is made, as <see cref="NotBroughtBackBecause"/>
    /// says.</summary>
    internal Func<PlaceEntry, ImmutableArray<HiveValue>>? BringBack { get; init; }

    internal string? NotBroughtBackBecause { get; init; }

    /// <summary>True if bringing back makes an entry for each part, rather than for the package or bundle that is registered.</summary>
    internal bool ForEachPart { get; init; }

    /// <summary>True if the entry that another account has is copied, where there is one.</summary>
    internal bool LikeOthers { get; init; }

    /// <summary>True if bringing back is for parts of the system only (true), for all others (false), or for both (null).</summary>
    internal bool? ForComponents { get; init; }

    /// <summary>True if bringing a package back deletes the entry.</summary>
    internal bool ClearedByBringBack { get; init; }

    /// <summary>Why surveys do not have it; null when they do.</summary>
    internal string? NotInSurveysBecause { get; init; }

    /// <summary>True if each entry is one key deeper: inside the key of its family.</summary>
    internal bool IsNested => Names == PlaceNames.FamilyAndFullName;

    /// <summary>True if each entry lists, as keys, the frameworks that its package needs. Frameworks have no entries of their own there.</summary>
    internal bool HoldsFrameworks { get; init; }

    /// <summary>True if each account has its own.</summary>
    internal bool IsPerAccount => Scope == TraceScope.Account || Path.Contains(SidMark, StringComparison.Ordinal);

    /// <summary>The folder of an account's profile.</summary>
    internal WindowsPath Folder(WindowsPath profile) => WindowsPath.Of($@"{profile}\{Path}");

    /// <summary>The folder or file of the volume.</summary>
    internal WindowsPath Folder(PackageRoots roots) => WindowsPath.Of(Path
        .Replace(PackagesMark, roots.Packages.ToString(), StringComparison.Ordinal)
        .Replace(RepositoryMark, roots.Repository.ToString(), StringComparison.Ordinal));

    /// <summary>The key that holds the entries.</summary>
    internal string Key(string? sid = null) => sid is null ? Path : Path.Replace(SidMark, sid, StringComparison.Ordinal);

    /// <summary>The key of one entry.</summary>
    internal string Key(string? sid, PackageFullName name) => Names switch
    {
        PlaceNames.Family => $@"{Key(sid)}\{name.Family}",
        PlaceNames.FamilyAndFullName => $@"{Key(sid)}\{name.Family}\{name}",
        _ => $@"{Key(sid)}\{name}",
    };

    /// <summary>Its entries in a hive, with the names that they were found by and the keys that hold them; not those whose names cannot be written.
    /// </summary>
    /// <param name="sid">The account; null for a place of the machine.</param>
    internal IEnumerable<(string Name, string Parent, IRegistryKey Entry)> Entries(IRegistry hive, string? sid)
    {
        string path = Key(sid);
        foreach (var (name, key) in Named(hive.Find(path)))
        {
            if (!IsNested)
            {
                yield return (name, path, key);
                continue;
            }
            string parent = $@"{path}\{name}";
            foreach (var (below, child) in Named(key))
                yield return (below, parent, child);
        }

        static IEnumerable<(string Name, IRegistryKey Key)> Named(IRegistryKey? key) =>
            (key?.Children() ?? []).Select(k => (k.Name, k)).Where(k => Hive.IsWritable(k.Name));
    }

    /// <summary>The entries in a hive of a place that names families in a text or by their app containers, each with its family.</summary>
    /// <param name="file">Of the hive.</param>
    /// <param name="containers">Families by the SIDs of their app containers; null where none is named so.</param>
    internal IEnumerable<(PackageFamilyName Family, Location Location)> Owned(
        IRegistry hive, WindowsPath file, FullNames names, Dictionary<string, PackageFamilyName>? containers)
    {
        foreach (string path in Paths(hive))
        {
            var parent = hive.Find(path);
            foreach (var value in IsValue ? parent?.Values() ?? [] : [])
            {
                if (Hive.IsWritable(value.Name) && names.FamilyIn(value.AsString(), Prefix) is { } family)
                    yield return (family, new ValueLocation(file, path, names.Keep(value.Name)));
            }
            foreach (var key in IsValue ? [] : parent?.Children() ?? [])
            {
                string name = key.Name;
                if (!Hive.IsWritable(name))
                    continue;
                if (Names == PlaceNames.Container && containers?.TryGetValue(name, out var owner) == true)
                    yield return (owner, new KeyLocation(file, path, names.Keep(name)));
                else if (Names == PlaceNames.Text && names.FamilyIn(OwnerValue is null ? name : key.Text(OwnerValue), Prefix) is { } family)
                    yield return (family, new KeyLocation(file, path, names.Keep(name)));
            }
        }
    }

    private IEnumerable<string> Paths(IRegistry hive)
    {
        if (Path.Split(AnyKey) is not [var above, var below])
            return [Path];
        return (hive.Find(above)?.Children() ?? []).Select(k => $@"{above}\{k.Name}{below}");
    }

    /// <summary>True if an entry is in this place.</summary>
    internal bool Holds(Trace trace) => trace.Kind == Kind && trace.Scope == Scope && trace.Location switch
    {
        KeyLocation key => !IsValue && IsIn(key.Hive) && StartsLike(key.Key)
            && (Names == PlaceNames.Other || key.Parent.AsSpan().Count('\\') == Path.AsSpan().Count('\\') + (IsNested ? 1 : 0)),
        ValueLocation value => IsValue && IsIn(value.Hive) && StartsLike(value.Key),
        RowsLocation => Container == PlaceContainer.Rows,
        EntryLocation entry => Container == PlaceContainer.List && entry.File == WindowsPath.Of(Path),
        TreeLocation => Container == PlaceContainer.Folder,
        _ => false,
    };

    private bool IsIn(WindowsPath hive) => Container switch
    {
        PlaceContainer.Software => hive == Places.Software,
        PlaceContainer.Classes => hive.Name.Equals("UsrClass.dat", StringComparison.OrdinalIgnoreCase),
        PlaceContainer.UserHive => hive.Name.Equals("NTUSER.DAT", StringComparison.OrdinalIgnoreCase),
        _ => false,
    };

    private bool StartsLike(string key) =>
        key.StartsWith(Path.Split([SidMark, AnyKey], StringSplitOptions.None)[0], StringComparison.OrdinalIgnoreCase);
}
