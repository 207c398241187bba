namespace Moorfield.Core.Assessment;

/// <summary>
/// Works out what a removal costs and saves, one reason at a time, the gravest first. A reason holds for those who lose the package, and
/// only as far as nothing that they keep does the same: costs are those of the whole removal.
/// </summary>
internal sealed class CostFinder
{
    // Every app that hears, sees or asks where it is names these; they do not make it a companion of the machine's hardware.
    private static readonly ImmutableHashSet<string> CommonDevices = ["microphone", "webcam", "location"];

    private readonly SystemSnapshot _snapshot;
    private readonly ILookup<PackageFullName, InstalledPackage> _neededBy;
    private readonly Advice _advice;
    private readonly ImmutableArray<string?> _everyone;

    // Asked for again and again, and slow to work out from a manifest.
    private readonly Dictionary<PackageFullName, ImmutableArray<string>> _opens;
    private readonly Dictionary<PackageFullName, ImmutableArray<Offer>> _offers;
    private readonly ILookup<string, InstalledPackage> _openers;
    private readonly Dictionary<string, string> _names;
    private readonly ILookup<string, InstalledPackage> _mentionedBy;
    private readonly ILookup<PackageFullName, InstalledPackage> _wantedBy;
    private readonly ILookup<PackageFamilyName, InstalledPackage> _versions;
    private readonly ILookup<PackageFamilyName, ChosenHandler> _chosenFamilies;
    private readonly ILookup<string, ChosenHandler> _chosenTypes;

    internal CostFinder(SystemSnapshot snapshot, ILookup<PackageFullName, InstalledPackage> neededBy, Advice advice)
    {
        _snapshot = snapshot;
        _neededBy = neededBy;
        _advice = advice;
        _names = snapshot.Accounts.DistinctBy(a => a.Sid, StringComparer.OrdinalIgnoreCase)
            .ToDictionary(a => a.Sid, a => a.Name, StringComparer.OrdinalIgnoreCase);
        _everyone = [.. snapshot.Accounts.Select(a => (string?)a.Sid), null];
        _opens = snapshot.Packages.ToDictionary(p => p.FullName, p => p.Manifest is { } manifest
            ? manifest.FileTypes.Concat(manifest.Schemes).ToImmutableArray() : []);
        _offers = snapshot.Packages.ToDictionary(p => p.FullName, p => OffersOf(p).ToImmutableArray());
        _openers = snapshot.Packages.SelectMany(p => _opens[p.FullName].Select(what => (What: what, Package: p)))
            .ToLookup(o => o.What, o => o.Package, StringComparer.OrdinalIgnoreCase);
        // Of all that manifests mention, only what others offer or open matters.
        var offered = _offers.Values.SelectMany(o => o).SelectMany(o => o.Names).Concat(_openers.Select(o => o.Key))
            .ToHashSet(StringComparer.OrdinalIgnoreCase);
        _mentionedBy = snapshot.Packages.Where(p => p.Manifest is not null)
            .SelectMany(p => p.Manifest!.Mentions.Where(offered.Contains).Distinct(StringComparer.OrdinalIgnoreCase)
                .Select(name => (Name: name, Package: p)))
            .ToLookup(m => m.Name, m => m.Package, StringComparer.OrdinalIgnoreCase);
        _wantedBy = snapshot.Packages.SelectMany(p => p.Wants.Select(w => (Want: w, Package: p))).ToLookup(w => w.Want, w => w.Package);
        _versions = snapshot.Packages.ToLookup(p => p.Family);
        _chosenFamilies = snapshot.Handlers.Chosen.Where(c => c.Family is not null).ToLookup(c => c.Family!.Value);
        _chosenTypes = snapshot.Handlers.Chosen.ToLookup(c => c.What, StringComparer.OrdinalIgnoreCase);
    }

    /// <summary>The features that a package offers to others, with the names by which they ask for it.</summary>
    private sealed record Offer(string What, ImmutableArray<string> Names);

    internal IEnumerable<Reason> Find(InstalledPackage package, RemovalSet removalSet)
    {
        List<string?> losing = [.. _everyone.Where(who => removalSet.Leaves(package, who))];
        var opened = losing.Count == 0 ? [] : LostHandlers(package, removalSet, losing);
        return LostStoreLinks(opened)
            .Concat(Needed(package, removalSet, losing))
            .Concat(OnlyOpenerOf(package, removalSet, opened))
            .Concat(Unopened(package, removalSet, opened))
            .Concat(Offered(package, removalSet, losing))
            .Concat(NotKnown(package, removalSet, losing))
            .Concat(Data(package, removalSet, losing))
            .Concat(Chosen(package, removalSet, losing, opened))
            .Concat(Hardware(package, losing))
            .Concat(Noted(package))
            .Concat(Saved(package, removalSet, losing))
            .Concat(RemovedAddons(package, removalSet))
            .Concat(Idle(package, removalSet));
    }

    /// <summary>A file type or scheme with those for whom nothing opens it any more.</summary>
    private sealed record Opened(string What, ImmutableArray<string?> For)
    {
        internal bool IsType => What.StartsWith('.');
    }

    private bool IsOpened(string what, RemovalSet removalSet, string? who) =>
        _snapshot.Handlers.HasClassic(what, who) || _openers[what].Any(p => removalSet.Keeps(p, who));

    private List<Opened> LostHandlers(InstalledPackage package, RemovalSet removalSet, List<string?> losing) =>
        [.. _opens[package.FullName]
            .Select(what => new Opened(what, [.. losing.Where(who => !IsOpened(what, removalSet, who))]))
            .Where(o => !o.For.IsEmpty)];

    private IEnumerable<Reason> LostStoreLinks(List<Opened> opened)
    {
        if (opened.Find(IsStore) is { } shop)
        {
            yield return new Reason("shopFront", ReasonKind.Cost,
            $"It handles {OpenableFamily.ShopScheme} links{For(shop.For)}: removed apps could not be fetched again.",
                "the way to fetch apps", [OpenableFamily.ShopScheme]);
        }
    }

    private static bool IsStore(Opened opened) => opened.What.Equals(OpenableFamily.ShopScheme, StringComparison.OrdinalIgnoreCase);

    private IEnumerable<Reason> Needed(InstalledPackage package, RemovalSet removalSet, List<string?> losing)
    {
        bool Stays(InstalledPackage other) => other.Family != package.Family && losing.Exists(who => removalSet.Keeps(other, who));
        var needing = _neededBy[package.FullName].Where(Stays).ToList();
        if (needing.Count > 0)
            yield return Because(needing, needing.Count == 1 ? "needs it and stays" : "need it and stay", "needed");
        var wanting = _wantedBy[package.FullName].Where(Stays).Except(needing).ToList();
        if (wanting.Count > 0)
            yield return Because(wanting, wanting.Count == 1 ? "stays, and does less without it" : "stay, and do less without it", "wanted");
        List<InstalledPackage> told = _advice.Needs.IsEmpty ? []
            : [.. _snapshot.Packages.Where(p => _advice.Confirms(p, package) && Stays(p)).Except(needing)];
        if (told.Count > 0)
            yield return Because(told, $"{(told.Count == 1 ? "stays and needs" : "stay and need")} it, according to the brief", "neededByBrief");

        static Reason Because(List<InstalledPackage> packages, string what, string code) =>
            new(code, ReasonKind.Cost, $"{TextFormat.Packages(packages)} {what}.",
                $"{(code == "wanted" ? "wanted" : "needed")} by {TextFormat.Packages(packages)}", TextFormat.Families(packages));
    }

    /// <summary>The only one that opens a well-known family of types.</summary>
    private IEnumerable<Reason> OnlyOpenerOf(InstalledPackage package, RemovalSet removalSet, List<Opened> opened)
    {
        foreach (var (family, group) in SoleFamilies(removalSet, opened))
        {
            foreach (var people in group.GroupBy(o => Key(o.For)))
            {
                var types = people.Select(o => o.What).ToList();
                bool shared = family.Members.Any(m => _openers[m]
                    .Any(p => p.Family != package.Family && people.First().For.Any(who => removalSet.Leaves(p, who))));
                string how = shared ? $"Nothing that stays opens {family.Name}" : $"It is the only one that opens {family.Name}";
                yield return new Reason(
                    "soleOpener", ReasonKind.Cost, $"{how}{For(people.First().For)}: {Shown(types)}.", $"opens {family.Name}", [.. types]);
            }
        }
    }

    private IEnumerable<(OpenableFamily Family, List<Opened> Opened)> SoleFamilies(RemovalSet removalSet, List<Opened> opened) =>
        OpenableFamily.All
            .Select(f => (Family: f, Opened: opened.Where(o => f.Members.Contains(o.What))
                .Select(o => o with { For = [.. o.For.Where(who => !f.Members.Any(m => IsOpened(m, removalSet, who)))] })
                .Where(o => !o.For.IsEmpty).ToList()))
            .Where(f => f.Opened.Count > 0);

    /// <summary>Other types and schemes that nothing opens any more.</summary>
    private IEnumerable<Reason> Unopened(InstalledPackage package, RemovalSet removalSet, List<Opened> opened)
    {
        var told = SoleFamilies(removalSet, opened).SelectMany(f => f.Opened).SelectMany(o => o.For.Select(who => (o.What, who))).ToHashSet();
        var rest = opened.Where(o => !IsStore(o)).Select(o => o with { For = [.. o.For.Where(who => !told.Contains((o.What, who)))] })
            .Where(o => !o.For.IsEmpty).ToList();
        foreach (var people in rest.Where(o => o.IsType || IsAsked(package, removalSet, o)).GroupBy(o => Key(o.For)))
        {
            string types = Shown(people.Select(o => o.What));
            yield return new Reason("noOpener", ReasonKind.Cost, $"Nothing else opens {types}{For(people.First().For)}.", $"opens {types}",
                [.. people.Select(o => o.What)]);
        }
        var own = rest.Where(o => !o.IsType && !IsAsked(package, removalSet, o)).Select(o => o.What).ToList();
        if (own.Count > 0)
            yield return new Reason("ownScheme", ReasonKind.Note, $"Its own links, {Shown(own)}, will lead nowhere.", "", [.. own]);
    }

    /// <summary>True if anybody may follow such a link: everyone knows it, somebody chose who opens it, or a package that stays names it.</summary>
    private bool IsAsked(InstalledPackage package, RemovalSet removalSet, Opened opened) =>
        OpenableFamily.IsPublicScheme(opened.What)
        || _chosenTypes[opened.What].Any(c => opened.For.Contains(c.Sid))
        || _mentionedBy[opened.What].Any(p => p.Family != package.Family && opened.For.Any(who => removalSet.Keeps(p, who)));

    private IEnumerable<Reason> Offered(InstalledPackage package, RemovalSet removalSet, List<string?> losing)
    {
        foreach (var (what, names) in _offers[package.FullName])
        {
            var asking = names.SelectMany(n => _mentionedBy[n]).DistinctBy(p => p.FullName).Where(p => p.Family != package.Family
                && !_offers[p.FullName].SelectMany(o => o.Names).Intersect(names, StringComparer.OrdinalIgnoreCase).Any()
                && losing.Exists(who => removalSet.Keeps(p, who))).ToList();
            if (asking.Count > 0)
                yield return new Reason("offers", ReasonKind.Cost,
                    $"It offers {what}, which {TextFormat.Packages(asking)} {(asking.Count == 1 ? "names" : "name")}.",
                    $"used by {TextFormat.Packages(asking)}", [.. names, .. TextFormat.Families(asking)]);
        }
    }

    private static IEnumerable<Offer> OffersOf(InstalledPackage package)
    {
        if (package.Manifest is not { } manifest)
            yield break;
        foreach (string service in manifest.Values("windows.appService"))
            yield return new Offer($"the app service {service}", [service]);
        foreach (string server in manifest.Values("windows.comServer"))
            yield return new Offer($"the COM server {server}", [server, $"{{{server}}}"]);
        foreach (var application in manifest.Applications.Where(a => a.Extensions.Any(e => e.Category == "windows.shareTarget")))
            yield return new Offer("a share target", [$"{package.Family}!{application.Id}"]);
    }

    /// <summary>The data that could not be read and might cost something: unknown is never the same as none.</summary>
    private IEnumerable<Reason> NotKnown(InstalledPackage package, RemovalSet removalSet, List<string?> losing)
    {
        if (_snapshot.ReadGaps.IsEmpty || losing.Count == 0)
            yield break;
        var facts = new List<(string Text, string Short)>();
        if (_snapshot.ReadGaps.Any(u => u.Kind == ReadGapKind.Machine))
            facts.Add(("The machine's packages or registry could not be read in full, so it is not known what depends on this package.",
                "much is not known"));
        if (package.Manifest is null && _snapshot.ReadGaps.Any(u => u.Kind == ReadGapKind.Manifest && u.Family == package.Family))
            facts.Add(("Its manifest could not be read, so it is not known what it opens and offers.", "its manifest is not known"));
        var open = _opens[package.FullName];
        if (!open.IsEmpty && Unseen(ReadGapKind.Choices) is { Count: > 0 } choosers)
            facts.Add(($"Whether {TextFormat.List(choosers, 3)} chose it to open {Shown(open.Order(StringComparer.OrdinalIgnoreCase))} is not known.",
                $"choice of {TextFormat.List(choosers, 2)} not known"));
        if (!removalSet.KeepsData && Unseen(ReadGapKind.Data) is { Count: > 0 } owners)
            facts.Add(($"What {TextFormat.List(owners, 3)} {(owners.Count == 1 ? "has" : "have")} in it is not known.",
                $"data of {TextFormat.List(owners, 2)} not known"));
        if (facts.Count > 0)
            yield return new Reason("notKnown", ReasonKind.Cost, string.Join(' ', facts.Select(f => f.Text)), facts[0].Short, []);

        List<string> Unseen(ReadGapKind kind) =>
            [.. _snapshot.ReadGaps.Where(u => u.Kind == kind && losing.Contains(u.Sid) && (u.Family is null || u.Family == package.Family))
                .Select(u => Name(u.Sid!)).Distinct(StringComparer.Ordinal)];
    }

    private IEnumerable<Reason> Data(InstalledPackage package, RemovalSet removalSet, List<string?> losing)
    {
        if (removalSet.KeepsData)
            yield break;
        var lost = package.Data.Where(d => losing.Contains(d.Sid)
            && !_versions[package.Family].Any(p => removalSet.Keeps(p, d.Sid))).ToList();
        if (lost.Count == 0)
            yield break;
        var who = lost.Select(d => Name(d.Sid)).ToList();
        var facts = lost.Select(d =>
            $"{Name(d.Sid)} has {TextFormat.Size(d.Bytes)} of data in it, last changed "
            + $"{d.LastChange.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture)}.");
        yield return new Reason("data", ReasonKind.Cost, string.Join(' ', facts), $"data of {TextFormat.List(who, 2)}", [.. who]);
    }

    private IEnumerable<Reason> Chosen(InstalledPackage package, RemovalSet removalSet, List<string?> losing, List<Opened> opened)
    {
        var unopened = opened.SelectMany(o => o.For.Select(who => (o.What.ToUpperInvariant(), who))).ToHashSet();
        var lost = _chosenFamilies[package.Family].Where(c => losing.Contains(c.Sid)
            && !unopened.Contains((c.What.ToUpperInvariant(), c.Sid))
            && !_versions[package.Family].Any(p => removalSet.Keeps(p, c.Sid))).ToList();
        foreach (var people in lost.GroupBy(c => c.Sid)
            .Select(g => (Sid: g.Key, What: Shown(g.Select(c => c.What).Order(StringComparer.OrdinalIgnoreCase)))).GroupBy(g => g.What))
        {
            var sids = people.Select(p => p.Sid).ToList();
            string who = TextFormat.List(sids.Where(s => s is not null).Select(s => Name(s!)), 4);
            string text = who.Length > 0 ? $"{who} chose it to open {people.Key}" : "";
            if (sids.Contains(null))
                text += $"{(text.Length > 0 ? ", and new" : "New")} accounts are given it for {(text.Length > 0 ? "the same" : people.Key)}";
            yield return new Reason("chosenOpener", ReasonKind.Cost, text + ".", $"chosen for {people.Key}",
                [.. lost.Where(c => sids.Contains(c.Sid)).Select(c => c.What).Distinct(StringComparer.OrdinalIgnoreCase)]);
        }
    }

    private static IEnumerable<Reason> Hardware(InstalledPackage package, List<string?> losing)
    {
        var devices = (package.Manifest?.HardwareCapabilities ?? []).Except(CommonDevices, StringComparer.OrdinalIgnoreCase).ToList();
        if (devices.Count == 0 || losing.Count == 0)
            yield break;
        bool isMaker = package.Origin == PackageOrigin.Maker;
        string comes = isMaker ? "It comes from the maker of the machine and reaches its hardware" : "It reaches hardware of the machine";
        yield return new Reason("hardware", ReasonKind.Cost, $"{comes}: {TextFormat.List(devices)}.", isMaker ? "the maker's hardware"
            : "reaches hardware", [.. devices]);
    }

    private IEnumerable<Reason> Noted(InstalledPackage package)
    {
        foreach (string note in _advice.NotesOn(package))
            yield return new Reason("note", ReasonKind.Cost, $"The brief notes: {note}", "noted in the brief", []);
    }

    /// <summary>
    /// What those gain who lose it: nothing while another account keeps it running. Only where there are no accounts yet do newcomers gain.
    /// </summary>
    private IEnumerable<Reason> Saved(InstalledPackage package, RemovalSet removalSet, List<string?> losing)
    {
        ImmutableArray<string?> gaining = [.. losing.Where(who => who is not null || _snapshot.Accounts.IsEmpty)];
        if (package.Manifest is not { } manifest || gaining.IsEmpty || package.Accounts.Any(sid => removalSet.Keeps(package, sid)))
            yield break;
        string who = gaining.Length >= Math.Max(_snapshot.Accounts.Length, 1) ? "" : For(gaining);
        ImmutableArray<string> tasks = [.. manifest.Values("windows.startupTask")];
        if (!tasks.IsEmpty)
            yield return new Reason("startsWithWindows", ReasonKind.Saving, $"It starts with Windows{who} ({TextFormat.List(tasks)}).",
                "starts with Windows" + who, tasks);
        if (manifest.Has("windows.backgroundTasks"))
            yield return new Reason("runsInBackground", ReasonKind.Saving, $"It runs in the background{who}.", "runs in the background" + who, []);
    }

    /// <summary>Addons, which go with what they extend.</summary>
    private IEnumerable<Reason> RemovedAddons(InstalledPackage package, RemovalSet removalSet)
    {
        var along = _neededBy[package.FullName].Where(p => p.Role == PackageRole.Addon && p.IsHeld && removalSet.Concerns(p)).ToList();
        if (along.Count > 0)
            yield return new Reason("takesAlong", ReasonKind.Note,
                $"{TextFormat.Packages(along)} {(along.Count == 1 ? "extends" : "extend")} it and will go with it.", "", TextFormat.Families(along));
    }

    /// <summary>Frameworks that nothing needs any more once this package is gone.</summary>
    private IEnumerable<Reason> Idle(InstalledPackage package, RemovalSet removalSet)
    {
        if (removalSet.IsKept(package))
            yield break;
        var idle = package.Needs.Select(_snapshot.Package).OfType<InstalledPackage>()
            .Where(f => f.Role == PackageRole.Framework && !removalSet.Concerns(f) && !_neededBy[f.FullName].Any(removalSet.IsKept)).ToList();
        if (idle.Count > 0)
            yield return new Reason("idleFramework", ReasonKind.Note, $"No package needs {TextFormat.Packages(idle)} afterwards.", "",
                TextFormat.Families(idle));
    }

    private static string Key(ImmutableArray<string?> people) => string.Join('|', people);

    private static string Shown(IEnumerable<string> what) => TextFormat.List(what.Select(w => w.StartsWith('.') ? w : w + ":"));

    private string Name(string sid) => _names.GetValueOrDefault(sid, sid);

    /// <summary>" for ivy and newcomers"; nothing when everyone is meant.</summary>
    private string For(ImmutableArray<string?> people) =>
        people.Length == _everyone.Length ? "" : $" for {TextFormat.List(people.Select(p => p is null ? "newcomers" : Name(p)), 4)}";
}
