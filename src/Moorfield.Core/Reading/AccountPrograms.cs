using Moorfield.Core.Layout;
using Moorfield.Core.Trees;

namespace Moorfield.Core.Reading;

/// <summary>
/// Finds all that a desktop program has in the account that it was installed for, and whether anything outside of that account needs it. Source:
/// docs/on-disk.md, "Desktop programs of an account".
/// </summary>
internal sealed class AccountPrograms
{
    private const string Explorer = Places.UserCurrentVersion + @"\Explorer";
    private const string SyncRoots = @"\Explorer\SyncRootManager";
    private const string KnownFolders = Explorer + @"\User Shell Folders";

    private static readonly ImmutableArray<string> UserKeys = ProgramPlaces.Leading(ProgramPlaces.UserHive),
        ClassKeys = ProgramPlaces.Leading(ProgramPlaces.Classes);

    // Keys of the classes that hold what many programs add: only a program's own verb in one belongs to it.
    private static readonly HashSet<string> SharedClasses = new(
        ["*", "Directory", "Folder", "Drive", "AllFilesystemObjects", "DesktopBackground", "LibraryFolder"], StringComparer.OrdinalIgnoreCase);

    private static readonly HashSet<string> NoProgIds = new(
        ["Local Settings", "CLSID", "WOW6432Node", "Interface", "TypeLib", "Applications", "Extensions", "ActivatableClasses", "VirtualStore",
            "SystemFileAssociations", "MIME"], StringComparer.OrdinalIgnoreCase);

    // Inside a profile: where programs lie that an account installs, and what is in there of Windows itself and of all programs.
    private static readonly ImmutableArray<string> ProfilePlaces = [@"AppData\Local", @"AppData\LocalLow", @"AppData\Roaming"];

    private static readonly ImmutableArray<string> SharedPlaces =
    [
        @"AppData\Local\Microsoft\Windows", @"AppData\Local\Microsoft\WindowsApps", @"AppData\Local\Microsoft\Credentials",
        @"AppData\Local\Microsoft\Crypto", @"AppData\Local\Microsoft\Vault", @"AppData\Local\Packages", @"AppData\Local\Temp",
        @"AppData\Roaming\Microsoft",
    ];

    private readonly WindowsTree _tree;
    private readonly DesktopProgram _program;
    private readonly Account _account;
    private readonly WindowsPath _folder;
    private readonly List<Location> _entries = [];
    private readonly List<string> _obstacles = [], _kept = [], _opens = [];
    private readonly List<Reason> _costs = [];
    private readonly List<WindowsPath> _userFolders = [], _knownFolders = [];
    private readonly HashSet<string> _classIds = new(StringComparer.OrdinalIgnoreCase), _progIds = new(StringComparer.OrdinalIgnoreCase);

    private AccountPrograms(WindowsTree tree, DesktopProgram program, Account account, WindowsPath folder) =>
        (_tree, _program, _account, _folder) = (tree, program, account, folder);

    private WindowsPath Profile => _account.Profile!.Value;

    /// <summary>Reads what some programs have in their accounts. Every hive of the system is read at most once.</summary>
    /// <param name="programs">Each an account's.</param>
    internal static ImmutableArray<ProgramTraces> Read(WindowsTree tree, SystemSnapshot system, IReadOnlyCollection<DesktopProgram> programs)
    {
        var barred = new List<ProgramTraces>();
        var searches = new List<AccountPrograms>();
        foreach (var program in programs)
        {
            var account = system.Account(program.Sid!);
            if (Bar(program, account?.Profile, system) is { } bar)
                barred.Add(new ProgramTraces(program, [], 0, [bar], [], []));
            else
                searches.Add(new AccountPrograms(tree, program, account!, program.Folder!.Value));
        }
        searches.ForEach(s => s.TakeStarts());
        var open = searches.FindAll(s => s._obstacles.Count == 0);
        foreach (var (path, account, isClasses) in open.Count > 0 ? Hives(system) : [])
            ReadHive(tree, path, account, isClasses, open);
        return [.. barred, .. searches.Select(s => s.Finish())];
    }

    /// <summary>Why a program cannot go, as far as the snapshot says it; null when it may.</summary>
    private static string? Bar(DesktopProgram program, WindowsPath? profile, SystemSnapshot system) =>
        program.IsInstallerProduct ? "Windows Installer put it there and keeps its own records of it"
        : profile is null || program.Key is null ? "its account has no profile here"
        : program.Folder is not { } folder ? "nothing says which folder is its own"
        : !folder.IsBelow(profile.Value) ? $"its files lie in {folder}, outside of the account's profile"
        : !IsPrograms(folder, profile.Value) || !new[] { program.UninstallCommand, program.QuietCommand }.OfType<string>()
            .Select(c => CommandLine.Program(c, profile)).Concat(program.Starts.Select(s => s.Program)).Any(f => f?.IsBelow(folder) == true)
            ? $"its folder {folder} may hold more than the program"
        : system.DesktopPrograms.FirstOrDefault(p => p.Folder is { } other && p.Key is not null && !(p.Sid == program.Sid && p.Key == program.Key)
            && (other == folder || other.IsBelow(folder) || folder.IsBelow(other))) is { } neighbour ? $"{neighbour.Name} lies in the same folder"
        : null;

    /// <summary>True if a folder can be that of one program alone: nothing of Windows or of people lies in it or around it.</summary>
    private static bool IsPrograms(WindowsPath folder, WindowsPath profile) =>
        ProfilePlaces.Any(p => folder.IsBelow(At(profile, p)))
        && !SharedPlaces.Select(p => At(profile, p)).Any(p => p == folder || p.IsBelow(folder) || folder.IsBelow(p));

    private static WindowsPath At(WindowsPath profile, string place) => place.Split('\\').Aggregate(profile, (path, name) => path / name);

    /// <summary>All hives that may lead into a program's folder: an account's classes before its own hive, which refers to them.</summary>
    private static IEnumerable<(WindowsPath Path, Account? Account, bool IsClasses)> Hives(SystemSnapshot system) =>
        new (WindowsPath, Account?, bool)[] { (Places.Software, null, false), (Places.System, null, false),
            (Places.UserHive(Places.DefaultProfile), null, false) }
            .Concat(system.Accounts.Where(a => a.Profile is not null).SelectMany(a => new (WindowsPath, Account?, bool)[]
                { (Places.Classes(a.Profile!.Value), a, true), (Places.UserHive(a.Profile.Value), a, false) }));

    private static void ReadHive(WindowsTree tree, WindowsPath path, Account? account, bool isClasses, List<AccountPrograms> searches)
    {
        try
        {
            if (tree.IsUnseen(path))
                throw new MoorfieldException(ErrorKind.Failed, "it cannot be read.");
            using var hive = HiveFile.OpenRegistry(tree, path, new SnapshotNotes());
            if (hive is null)
                return;
            foreach (var mention in PathMentions.Find(hive.Root, [.. searches.Select(s => s._folder).Distinct()], account?.Profile))
            {
                foreach (var search in searches.Where(s => s._folder == mention.Folder))
                    search.Take(hive, path, mention, account, isClasses);
            }
            foreach (var search in searches.Where(s => s._account == account))
            {
                if (isClasses)
                    search.FollowClasses(hive, path);
                else
                    search.FollowOwn(hive, path);
            }
        }
        catch (Exception e) when (e is MoorfieldException or InvalidDataException)
        {
            searches.ForEach(s => s._obstacles.Add($"{path} cannot be read, so what else needs it is not known"));
        }
    }

    /// <summary>Its start entries: those of the account go, a task of the account stays, and any other makes it the machine's.</summary>
    private void TakeStarts()
    {
        foreach (var start in _program.Starts)
        {
            if (start.Kind == StartKind.Task && StartEntries.IsOf(start.Principal ?? "", _account))
                _kept.Add($"The scheduled task '{start.Name}' stays and starts nothing any more.");
            else if (start.Scope != TraceScope.Account)
                _obstacles.Add(start.Kind == StartKind.Service ? $"the service {start.Name} runs from its folder"
                    : start.Kind == StartKind.Task ? $"the scheduled task '{start.Name}', which is not the account's, starts it"
                    : $"{start.Name} starts it for everyone");
            else
                _entries.Add(start.Location);
        }
    }

    private void Take(IRegistry hive, WindowsPath path, PathMention mention, Account? account, bool isClasses)
    {
        if (account != _account)
        {
            // What the machine keeps for this account alone, under its SID, needs nobody else's program.
            if (!mention.Key.Contains(_account.Sid, StringComparison.OrdinalIgnoreCase))
                _obstacles.Add($"{path} leads into its folder ({mention.Key})");
            else if (mention.Key.Contains(SyncRoots, StringComparison.OrdinalIgnoreCase) && hive.Find(mention.Key) is { } root)
                TakeFolders(root.Child("UserSyncRoots"), Named(_account.Sid));
            return;
        }
        if (isClasses)
            TakeClass(hive, path, mention.Key);
        else if (Below(mention.Key, Places.AccountUninstall + @"\?") is { } entry)
        {
            if (!entry.Equals(_program.Key, StringComparison.OrdinalIgnoreCase))
                _obstacles.Add($"another program is removed by a file in its folder ({entry[(entry.LastIndexOf('\\') + 1)..]})");
        }
        else if (UserKeys.Select(k => Below(mention.Key, k)).FirstOrDefault(k => k is not null) is { } key)
        {
            _entries.Add(new KeyLocation(path, key));
            TakeFolders(hive.Find(key)?.Child("UserSyncRoots"), _ => true);
            TakeFolders(hive.Find(key), Named("MountPoint"));
        }
    }

    private void TakeClass(IRegistry hive, WindowsPath path, string mentioned)
    {
        if (ClassKeys.Select(k => Below(mentioned, k)).FirstOrDefault(k => k is not null) is { } key)
        {
            string name = key[(key.LastIndexOf('\\') + 1)..];
            _entries.Add(new KeyLocation(path, key));
            if (name.StartsWith('{'))
            {
                _classIds.Add(name);
                TakeFolders(hive.Find($@"{key}\Instance\InitPropertyBag"), Named("TargetFolderPath"));
            }
            return;
        }
        string top = mentioned.Split('\\')[0];
        if (top.Length == 0 || NoProgIds.Contains(top) || HandlerClasses.IsPackages(top))
            return;
        var verbs = hive.Find($@"{top}\shell")?.Children() ?? [];
        bool isShared = SharedClasses.Contains(top) || top.StartsWith('.')
            || verbs.Any(v => v.Child("command")?.Text("") is { Length: > 0 } c && !PathMentions.Leads(c.Replace('/', '\\'), _folder, Profile));
        if (!isShared)
        {
            _entries.Add(new KeyLocation(path, top));
            _progIds.Add(top);
        }
        else if (Below(mentioned, top.Replace('?', '_') + @"\shell\?") is { } verb)
        {
            _entries.Add(new KeyLocation(path, verb));
        }
    }

    /// <summary>References to the classes that go: extensions of the shell, and file types.</summary>
    private void FollowClasses(IRegistry hive, WindowsPath path)
    {
        foreach (var top in hive.Root.Children())
        {
            foreach (string parent in new[] { @"shellex", @"Background\shellex" })
            {
                foreach (var kind in hive.Find($@"{top.Name}\{parent}")?.Children() ?? [])
                {
                    _entries.AddRange(kind.Children().Where(h => _classIds.Contains(h.Name) || _classIds.Contains(h.Text("") ?? ""))
                        .Select(h => new KeyLocation(path, $@"{top.Name}\{parent}\{kind.Name}\{h.Name}")));
                }
            }
            if (!top.Name.StartsWith('.'))
                continue;
            if (_progIds.Contains(top.Text("") ?? ""))
                _entries.Add(new ValueLocation(path, top.Name, ""));
            TakeNamed(path, $@"{top.Name}\OpenWithProgids", top.Child("OpenWithProgids"), _progIds);
        }
    }

    /// <summary>Entries of the account's own hive that do not lead to its folder themselves.</summary>
    private void FollowOwn(IRegistry hive, WindowsPath path)
    {
        foreach (string place in new[] { "Desktop", "MyComputer" })
        {
            string parent = $@"{Explorer}\{place}\NameSpace";
            _entries.AddRange((hive.Find(parent)?.Children() ?? []).Where(k => _classIds.Contains(k.Name))
                .Select(k => new KeyLocation(path, $@"{parent}\{k.Name}")));
        }
        var removed = _entries.OfType<KeyLocation>().Where(k => k.Hive == path).Select(k => k.Key).ToList();
        const string Registered = @"Software\RegisteredApplications";
        _entries.AddRange((hive.Find(Registered)?.Values() ?? [])
            .Where(v => v.AsString() is { } key && removed.Exists(r => IsAtOrBelow(key, r)))
            .Select(v => new ValueLocation(path, Registered, v.Name)));
        foreach (string list in new[] { "Run", "Run32" })
            TakeNamed(path, $@"{Explorer}\StartupApproved\{list}", hive, _program.Starts.Where(s => s.Kind == StartKind.Run).Select(s => s.Name));
        TakeNamed(path, $@"{Explorer}\StartupApproved\StartupFolder", hive,
            _program.Starts.Select(s => s.Location).OfType<TreeLocation>().Select(f => f.Path.Name));
        foreach (string place in new[] { Places.FileTypeChoices, Places.SchemeChoices })
        {
            foreach (var what in hive.Find(place)?.Children() ?? [])
            {
                TakeNamed(path, $@"{place}\{what.Name}\OpenWithProgids", what.Child("OpenWithProgids"), _progIds);
                if (!_progIds.Contains(what.Child(Places.Choice)?.Text("ProgId") ?? ""))
                    continue;
                _entries.Add(new KeyLocation(path, $@"{place}\{what.Name}\{Places.Choice}"));
                _opens.Add(what.Name);
            }
        }
        _knownFolders.AddRange((hive.Find(KnownFolders)?.Values() ?? [])
            .Select(PeoplesFolder).OfType<WindowsPath>());
    }

    private void TakeNamed(WindowsPath path, string key, IRegistry hive, IEnumerable<string> names) =>
        TakeNamed(path, key, hive.Find(key), names.ToHashSet(StringComparer.OrdinalIgnoreCase));

    private void TakeNamed(WindowsPath path, string place, IRegistryKey? key, HashSet<string> names) =>
        _entries.AddRange((key?.Values() ?? []).Where(v => names.Contains(v.Name)).Select(v => new ValueLocation(path, place, v.Name)));

    /// <summary>Folders in which people keep files, as values of a key say.</summary>
    private void TakeFolders(IRegistryKey? key, Func<HiveValue, bool> isMeant) =>
        _userFolders.AddRange((key?.Values() ?? []).Where(isMeant).Select(PeoplesFolder).OfType<WindowsPath>());

    private WindowsPath? PeoplesFolder(HiveValue value)
    {
        var path = CommandLine.Path(value.AsString() ?? "", Profile);
        if (path is { HasShortName: true })
            _obstacles.Add($"{path}, where people keep files, may be in its folder: only Windows knows what short names lead to");
        return path;
    }

    private static Func<HiveValue, bool> Named(string name) => v => v.Name.Equals(name, StringComparison.OrdinalIgnoreCase);

    private ProgramTraces Finish()
    {
        for (var path = _folder; path != Profile; path = path.Parent)
        {
            if (_tree.Stat(path)?.Kind == EntryKind.Link)
                _obstacles.Add($"{path} is a link, and its files lie elsewhere");
        }
        var userFolders = _userFolders.Distinct().ToList();
        foreach (var folder in userFolders.Concat(_knownFolders).Distinct().Where(f => f == _folder || f.IsBelow(_folder)
            || (userFolders.Contains(f) && _folder.IsBelow(f))))
            _obstacles.Add($"{folder}, where people keep files, is not apart from its folder");
        foreach (var folder in userFolders)
            AddUserFolder(folder);
        if (_opens.Count > 0)
        {
            ImmutableArray<string> opens = [.. _opens.Distinct(StringComparer.OrdinalIgnoreCase)];
            _costs.Add(new Reason("chosenOpener", ReasonKind.Cost, $"{_account.Name} chose it to open {TextFormat.List(opens, 3)}.",
                $"chosen for {TextFormat.List(opens, 3)}", opens));
        }
        if (_obstacles.Count > 0)
            return new ProgramTraces(_program, [], 0, [.. _obstacles.Distinct(StringComparer.Ordinal)], [], []);
        var hive = Places.UserHive(Profile);
        var all = _entries.Append(new KeyLocation(hive, _program.Key!)).Concat(
            ProgramShortcuts.Find(_tree, Profile, t => t.IsBelow(_folder))).Distinct().ToList();
        var keys = all.OfType<KeyLocation>().ToList();
        var trees = all.OfType<TreeLocation>().Select(t => t.Path).Append(_folder).ToList();
        ImmutableArray<Location> own = _tree.Stat(_folder) is null ? [] : [new TreeLocation(_folder)];
        all.RemoveAll(l => l switch
        {
            KeyLocation key => keys.Exists(k => k != key && k.Hive == key.Hive && IsAtOrBelow(key.Key, k.Key)),
            ValueLocation value => keys.Exists(k => k.Hive == value.Hive && IsAtOrBelow(value.Key, k.Key)),
            TreeLocation tree => trees.Exists(t => tree.Path.IsBelow(t)),
            _ => false,
        });
        return new ProgramTraces(_program, [.. all.Where(l => l is not TreeLocation), .. all.OfType<TreeLocation>(), .. own],
            _tree.TreeBytes(_folder), [], [.. _kept], [.. _costs]);
    }

    private void AddUserFolder(WindowsPath folder)
    {
        _kept.Add($"{folder} stays with the files that {_account.Name} keeps there, which nothing synchronises any more.");
        var redirected = _knownFolders.Where(p => p == folder || p.IsBelow(folder)).Select(p => p.Name)
            .Distinct(StringComparer.OrdinalIgnoreCase).Order(StringComparer.OrdinalIgnoreCase).ToList();
        if (redirected.Count > 0)
        {
            string which = redirected.Count == 1 ? $"The {redirected[0]} folder of {_account.Name} lies"
                : $"The {TextFormat.List(redirected)} folders of {_account.Name} lie";
            _costs.Add(new Reason("foldersRedirected", ReasonKind.Cost, $"{which} in {folder}, which nothing synchronises any more.",
                "folders no longer synchronised", [.. redirected]));
        }
        int absent = 0;
        _tree.Walk(folder, _ => true, (_, _, info) => absent += info.Kind == EntryKind.Withheld ? 1 : 0);
        if (absent > 0)
        {
            _costs.Add(new Reason("filesElsewhere", ReasonKind.Cost, $"The contents of {(absent == 1 ? "1 file" : $"{absent:N0} files")} in {folder} "
                + "are not on this disk, and nothing else can fetch them.", "files not on this disk", [folder.ToString()]));
        }
    }

    /// <summary>The part of a key's path that fits a pattern, of which the key lies at or below; null when it does not.</summary>
    /// <param name="pattern">Names, and ? for any one.</param>
    internal static string? Below(string key, string pattern)
    {
        string[] names = key.Split('\\'), wanted = pattern.Split('\\');
        return names.Length >= wanted.Length
            && wanted.Zip(names).All(p => p.First == "?" || p.First.Equals(p.Second, StringComparison.OrdinalIgnoreCase))
            ? string.Join('\\', names.Take(wanted.Length)) : null;
    }

    private static bool IsAtOrBelow(string key, string parent) =>
        key.Equals(parent, StringComparison.OrdinalIgnoreCase) || key.StartsWith(parent + @"\", StringComparison.OrdinalIgnoreCase);
}
