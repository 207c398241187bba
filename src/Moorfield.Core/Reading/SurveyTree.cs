using Moorfield.Core.Layout;
using Moorfield.Core.Trees;

namespace Moorfield.Core.Reading;

/// <summary>
/// A running machine as a survey tells of it, laid out like the volume that it is, so that the same readers judge both. Nothing of it can be
/// changed.
/// </summary>
internal sealed class SurveyTree : WindowsTree
{
    private const int MaxShown = 80;
    private readonly SurveyDocument _survey;
    private readonly Node _root = new("");
    private readonly Dictionary<WindowsPath, SurveyRegistry> _hives = [];
    private readonly HashSet<WindowsPath> _gaps = [];
    private readonly List<ReadGap> _unknown = [];
    private readonly SnapshotNotes _notes = new();

    /// <param name="name">Of the file.</param>
    /// <exception cref="InvalidDataException">Something in it cannot be what it should be.</exception>
    internal SurveyTree(string name, string fullPath, SurveyDocument survey)
    {
        Name = name;
        FullPath = fullPath;
        _survey = survey;
        foreach (var file in survey.Files ?? [])
            Add(file);
        AddHives();
        AddGaps();
        AppNames = (survey.Names ?? []).Where(n => n.Text is { Length: > 0 } && (n.App ?? n.Package) is { Length: > 0 })
            .GroupBy(n => n.App ?? n.Package!, StringComparer.OrdinalIgnoreCase)
            .ToDictionary(g => g.Key, g => g.First().Text!, StringComparer.OrdinalIgnoreCase);
    }

    public override string Name { get; }

    public override string FullPath { get; }

    /// <summary>When the survey was made; null when it does not say.</summary>
    internal DateTimeOffset? Made => _survey.Made;

    /// <summary>The display names of packages, by full name, and of applications, by <c>family!App</c>.</summary>
    internal IReadOnlyDictionary<string, string> AppNames { get; }

    /// <summary>The machine's own list of packages, in place of the state repository, which is locked while Windows runs.</summary>
    internal ILookup<PackageFullName, Trace>? Rows(ImmutableArray<Account> accounts, SnapshotNotes notes)
    {
        if (_survey.Packages is not { } packages)
            return null;
        var known = accounts.ToDictionary(a => a.Sid, StringComparer.OrdinalIgnoreCase);
        var traces = new List<(PackageFullName Package, Trace Trace)>();
        foreach (var package in packages)
        {
            if (!PackageFullName.TryParse(package.FullName ?? "", out var fullName))
            {
                notes.AddLimited("unknownEntry", $"The package '{Shortened(package.FullName)}' is not named like one and is left alone.");
                continue;
            }
            traces.Add((fullName, new Trace(TraceScope.Machine, null, TraceKind.MachineEntry, new RowsLocation(fullName, null))));
            foreach (var user in package.Users ?? [])
            {
                // Staged is what nobody has. [doc]
                if (user.State == "Installed" && known.TryGetValue(user.Account ?? "", out var account))
                    traces.Add((fullName,
                        new Trace(TraceScope.Account, account.Sid, TraceKind.Registration, new RowsLocation(fullName, account.Sid))));
            }
        }
        return traces.ToLookup(t => t.Package, t => t.Trace);
    }

    /// <summary>The data that could not be read.</summary>
    /// <param name="packages">As they were read.</param>
    internal ImmutableArray<ReadGap> Unknown(ImmutableArray<InstalledPackage> packages) =>
        [.. _unknown.Concat(packages.Where(p => p is { Manifest: null, IsHeld: true, HasFiles: true })
            .Select(p => new ReadGap(ReadGapKind.Manifest, null, p.Family))).Distinct()];

    /// <summary>Tells what the survey itself says that it could not see.</summary>
    internal void AddNotes(SnapshotNotes notes) => notes.Add(_notes);

    internal override bool IsUnseen(WindowsPath path) => _gaps.Contains(path);

    internal override Formats.Hives.IRegistry? OpenRegistry(WindowsPath path) => _hives.GetValueOrDefault(path);

    public override EntryInfo? Stat(WindowsPath path) => Find(path)?.Info;

    public override IReadOnlyList<string> List(WindowsPath path) =>
        [.. (Find(path)?.Below.Values ?? Enumerable.Empty<Node>()).Select(n => n.Name).Order(StringComparer.OrdinalIgnoreCase)];

    public override SafeFileHandle? OpenRead(WindowsPath path) => null;

    public override byte[]? Read(WindowsPath path, long limit) => Find(path)?.Text is { } text ? Encode(text) : null;

    public override void Walk(WindowsPath path, Func<WindowsPath, bool> enters, Action<WindowsPath, string, EntryInfo> visit)
    {
        if (Find(path) is { IsFile: false } start)
            Walk(start, WindowsPath.Root, enters, visit);
    }

    // A folder that was measured as a whole counts as one file in it.
    private static void Walk(Node folder, WindowsPath place, Func<WindowsPath, bool> enters, Action<WindowsPath, string, EntryInfo> visit)
    {
        if (folder.Unread)
            visit(place, "", folder.Info with { Kind = EntryKind.Withheld });
        if (folder.Total is not null || folder.Unread)
        {
            visit(place, "", folder.Info with { Kind = EntryKind.File });
            return;
        }
        foreach (var node in folder.Below.Values)
        {
            if (node.IsFile)
                visit(place, node.Name, node.Info);
            else if (enters(place / node.Name))
                Walk(node, place / node.Name, enters, visit);
        }
    }

    public override WindowsPath ActualCasing(WindowsPath path) => path;

    public override TreeState Compare(WindowsPath path, RecordedTree recorded, bool exactly = false) =>
        throw new NotSupportedException("A survey is never changed, so nothing of it is ever compared with a record.");

    /// <summary>A manifest as it was in its file: in the encoding that it names itself.</summary>
    private static byte[] Encode(string text)
    {
        bool wide = text.AsSpan(0, Math.Min(text.Length, 120)).Contains("encoding=\"utf-16", StringComparison.OrdinalIgnoreCase);
        var encoding = wide ? Encoding.Unicode : Encoding.UTF8;
        return [.. encoding.Preamble, .. encoding.GetBytes(text.TrimStart('\uFEFF'))];
    }

    private Node? Find(WindowsPath path)
    {
        Node? node = _root;
        foreach (string name in path.Names)
            node = node?.Below.GetValueOrDefault(name);
        return node;
    }

    private void Add(SurveyFileJson file)
    {
        if (WindowsPath.Parse(file.Path ?? "") is not { IsRoot: false } path)
        {
            _notes.AddLimited("pathOutside", $"The survey gives a file as '{Shortened(file.Path)}', which is not on the system's volume.");
            return;
        }
        var node = _root;
        foreach (string name in path.Names)
            node = node.Add(name);
        node.Take(file);
        // What is unread below an account's app data is data that is not known.
        if (file.Unread)
            _gaps.Add(path);
    }

    private void AddHives()
    {
        var profiles = new Dictionary<string, WindowsPath>(StringComparer.OrdinalIgnoreCase);
        var hives = _survey.Registry ?? [];
        foreach (var hive in hives.Where(h => h.Hive == "machine"))
            _hives[Places.Software] = new SurveyRegistry(hive.Keys ?? [], Asked(hive.Hive));
        if (!_hives.TryGetValue(Places.Software, out var software))
            return;
        foreach (var provisioned in _survey.Provisioned ?? [])
        {
            if (PackageFullName.TryParse(provisioned.FullName ?? "", out var fullName))
                software.Add($@"{PackagePlaces.Provisioned.Path}\{fullName}", []);
        }
        foreach (var key in ((Formats.Hives.IRegistry)software).Find(Places.ProfileList)?.Children() ?? [])
        {
            if (Account.IsPerson(key.Name) && key.Text("ProfileImagePath") is { } image
                && WindowsPath.Parse(image) is { IsRoot: false } profile)
                profiles[key.Name] = profile;
        }
        foreach (var (sid, profile) in profiles)
        {
            AddAccount("account", sid, Places.UserHive(profile));
            AddAccount("classes", sid, Places.Classes(profile));
            var data = PackagePlaces.AppData.Folder(profile);
            if (_gaps.Contains(profile) || _gaps.Contains(data))
                _unknown.Add(new ReadGap(ReadGapKind.Data, sid));
            foreach (var path in _gaps.Where(p => p.Names.Length > data.Names.Length && p.ToString().StartsWith(data + @"\",
                StringComparison.OrdinalIgnoreCase)).ToList())
            {
                if (PackageFamilyName.TryParse(path.Names[data.Names.Length], out var family))
                    _unknown.Add(new ReadGap(ReadGapKind.Data, sid, family));
            }
        }
        _gaps.Add(Places.UserHive(Places.DefaultProfile)); // loading it would write next to it
        if (hives.FirstOrDefault(h => h.Hive == "system") is { } system)
            _hives[Places.System] = new SurveyRegistry(system.Keys ?? [], Asked(null));
        if (_survey.Packages is null || _survey.Shell?.Bits == 32)
            _unknown.Add(new ReadGap(ReadGapKind.Machine));

        void AddAccount(string kind, string sid, WindowsPath path)
        {
            if (hives.FirstOrDefault(h => h.Hive == kind && sid.Equals(h.Account, StringComparison.OrdinalIgnoreCase)) is { } hive)
                _hives[path] = new SurveyRegistry(hive.Keys ?? [], Asked(hive.Hive));
            else
            {
                _gaps.Add(path);
                _unknown.Add(new ReadGap(ReadGapKind.Choices, sid));
            }
        }
    }

    private HashSet<PolicyPlace> Asked(string? hive) =>
        [.. (_survey.Guards ?? []).Where(g => hive is not null && hive.Equals(g.Hive, StringComparison.OrdinalIgnoreCase))
            .Select(g => PolicyPlace.Of(g.Key ?? "", g.Name ?? ""))];

    private void AddGaps()
    {
        foreach (var gap in _survey.Gaps ?? [])
        {
            PackageFullName? package = PackageFullName.TryParse(gap.Package ?? "", out var fullName) ? fullName : null;
            _notes.AddLimited(gap.Code is { Length: > 0 and <= MaxShown } code && code.All(char.IsAsciiLetterOrDigit) ? code : "gap",
                gap.Text is { Length: > 0 } text ? text : "The survey could not see something, and does not say what.", package);
        }
    }

    private static string Shortened(string? text) => text is null ? "" : text.Length > MaxShown ? text[..MaxShown] + "…" : text;

    /// <summary>A file or folder that the survey tells of.</summary>
    private sealed class Node(string name)
    {
        private long _bytes;
        private long _changed;

        internal string Name => name;

        internal Dictionary<string, Node> Below { get; } = new(StringComparer.OrdinalIgnoreCase);

        internal string? Text { get; private set; }

        internal bool IsFile { get; private set; }

        internal bool Unread { get; private set; }

        internal long? Total { get; private set; }

        internal EntryInfo Info => new(
            IsFile ? EntryKind.File : EntryKind.Folder, 0, 0, 0, Total ?? _bytes, new FileTime(_changed, 0), default, default, 0);

        internal Node Add(string child)
        {
            if (!Below.TryGetValue(child, out var node))
                Below[child] = node = new Node(child);
            return node;
        }

        internal void Take(SurveyFileJson file)
        {
            Text = file.Text ?? Text;
            IsFile |= file.Text is not null || file.Bytes is not null;
            _bytes = Math.Max(0, file.Bytes ?? file.Text?.Length ?? 0);
            _changed = Math.Clamp(file.Changed ?? 0, 0, DateTimeOffset.MaxValue.ToUnixTimeSeconds());
            Total = file.Total is { } total ? Math.Max(0, total) : Total;
            Unread |= file.Unread;
        }
    }
}
