using System.Runtime.InteropServices;
using Moorfield.Core.Assessment;
using Moorfield.Core.Fleets;
using Moorfield.Core.Planning;
using Moorfield.Core.Selection;
using Moorfield.Core.Trees;

namespace Moorfield.Core.Operations;

/// <summary>
/// Holds machines of a store against a brief by their packages. Rules are looked up once for each package and each bucket of a fleet, and what
/// becomes of a package is planned once for all machines on which the same accounts have it. It says the same as their documents, or nothing: a
/// package that others need, several versions of one, and other things that a whole system decides, are left to documents.
/// </summary>
internal sealed class PackageCheck
{
    private static readonly string[] GeneralWords = ["everyone", "accounts", "newcomers"];
    private const int Few = 16;
    private const string BuildWithBlocks = "26100", BuildWithout = "1";

    /// <summary>The rules' answer for a package.</summary>
    private readonly record struct Choice(bool Taken, bool Exactly, bool Kept);

    /// <summary>A package as the brief sees it; known by its identity.</summary>
    private sealed class Seen
    {
        internal required int Number { get; init; }

        internal required FleetItem Item { get; init; }

        internal required InstalledPackage Package { get; init; }

        /// <summary>Where no advice of the brief makes its removal cost something.</summary>
        internal required Choice Alone { get; init; }

        /// <summary>Where one does.</summary>
        internal required Choice Needed { get; init; }

        /// <summary>Numbers of the needs of the brief's advice that can, with a package that has it.</summary>
        internal required ImmutableArray<int> NeededFor { get; init; }

        /// <summary>Numbers of those that it has.</summary>
        internal required ImmutableArray<int> Needing { get; init; }

        /// <summary>Numbers of the names without wildcards that it fits.</summary>
        internal required ImmutableArray<int> Exact { get; init; }

        /// <summary>Families.</summary>
        internal required ImmutableArray<string> Extends { get; init; }

        /// <summary>True if it has to be told where no rule means it.</summary>
        internal required bool IsTold { get; init; }

        internal bool IsChosen => Alone.Taken || Needed.Taken || Alone.Kept || Needed.Kept;

        internal bool IsMarked => IsChosen || !Extends.IsEmpty || !Needing.IsEmpty || !Exact.IsEmpty;
    }

    /// <summary>A bucket as the brief sees it.</summary>
    /// <param name="IsWhole">True if only documents say what becomes of its packages.</param>
    /// <param name="Marked">Packages that rules mean, optional ones, and those that the advice or a name without a wildcard is about.</param>
    /// <param name="Unlisted">Apps that nothing names.</param>
    /// <param name="Titles">Names of packages of families that the brief blocks.</param>
    private sealed record SeenBucket(
        int Number, bool IsWhole, ImmutableArray<Seen> Marked, ImmutableArray<(PackageFamilyName Family, string Title)> Unlisted,
        ImmutableArray<(PackageFamilyName Family, string Title)> Titles)
    {
        internal static SeenBucket Nothing { get; } = new(0, false, [], [], []);
    }

    /// <summary>A package on a machine.</summary>
    /// <param name="Accounts">That have it, a bit each.</param>
    private readonly record struct Marked(Seen Seen, ulong Accounts, Choice Choice);

    /// <summary>The answer for machines that are alike in all that the brief is about.</summary>
    private sealed record Answer(ImmutableArray<BriefDifference> Ways, ImmutableArray<(PackageFamilyName Family, string Title)> Unlisted);

    private sealed record Effect(
        ImmutableArray<(string Title, PackageFullName Name, BriefDifference Difference)> Differences, ImmutableArray<PackageFamilyName> Blocked);

    private readonly Brief _brief;
    private readonly bool _newcomers, _accounts;
    private readonly ImmutableArray<string> _exactNames;
    private readonly HashSet<PackageFamilyName> _named, _keptFamilies, _blockable;
    private readonly Dictionary<FleetItem, Seen> _items = new(ReferenceEqualityComparer.Instance);
    private readonly BucketTable<SeenBucket> _buckets = new();
    private readonly Dictionary<(int, ulong, int, bool), Effect> _single = [];
    private readonly Dictionary<string, Effect> _groups = new(StringComparer.Ordinal);
    private readonly Dictionary<string, (int Number, HashSet<string> Families)> _blocks = new(StringComparer.Ordinal);
    private readonly Dictionary<byte[], Answer?> _answers = new(ContentComparer.Instance);
    // Of the machine that is looked at, made once for all.
    private readonly List<Marked> _marked = [];
    private readonly List<ImmutableArray<(PackageFamilyName Family, string Title)>> _unlisted = [];
    private readonly List<ulong> _key = [];
    private readonly StoredGuardCheck _guards;
    private int _lastBucket;

    private PackageCheck(Brief brief, ImmutableArray<string> words)
    {
        _brief = brief;
        _newcomers = words.Any(w => w is "everyone" or "newcomers");
        _accounts = words.Any(w => w is "everyone" or "accounts");
        _guards = new StoredGuardCheck(brief.Guards, _accounts, _newcomers);
        _exactNames = [.. brief.Remove.Concat(brief.Keep).SelectMany(r => r.Conditions.Names).Where(n => !NamePattern.IsWildcard(n))
            .Distinct(StringComparer.OrdinalIgnoreCase)];
        _named = [.. brief.Block, .. brief.Remove.Concat(brief.Keep).SelectMany(r => r.Families)];
        _keptFamilies = [.. brief.Keep.SelectMany(r => r.Families)];
        _blockable = [.. brief.Block, .. brief.Remove.SelectMany(r => r.Families)];
    }

    /// <summary>For a brief; null where it asks for more than a store says: desktop programs, a maker, accounts by name, other guards than the
    /// known ones.</summary>
    /// <param name="who">Words that win over the brief's.</param>
    internal static PackageCheck? For(Brief brief, IReadOnlyCollection<string> who)
    {
        ImmutableArray<string> words = [.. (who.Count > 0 ? who : brief.For)
            .SelectMany(w => w.Split(',', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries)).Select(w => w.ToLowerInvariant())];
        return brief.Guards.All(g => StoredGuards.Known(g) is not null) && brief.Maker is null
            && !brief.Remove.Concat(brief.Keep).Any(r => r.Conditions.IsDesktop)
            && !words.IsEmpty && words.All(GeneralWords.Contains) ? new PackageCheck(brief, words) : null;
    }

    /// <summary>How a machine differs from the brief, with placeholders for the names of accounts, and what the brief does not name; null where
    /// only its document says it.</summary>
    internal (ImmutableArray<BriefDifference> Ways, FamilyList Unlisted)? Judge(FleetMachine machine)
    {
        if (machine.State is not { Count: { } accounts } state || _guards.Differences(machine, state, accounts) is not { } guards
            || !Look(machine, state, accounts))
            return null;
        // Most machines are like others in all that the brief is about.
        int blocks = _blockable.Count > 0 && state.HasBlocks ? Blocked(state.Blocks).Number : 0;
        _key.AddRange([(ulong)accounts, state.HasBlocks ? 1UL : 0, (ulong)guards.Number, (ulong)blocks]);
        var answers = _answers.GetAlternateLookup<ReadOnlySpan<byte>>();
        var key = MemoryMarshal.AsBytes(CollectionsMarshal.AsSpan(_key));
        if (!answers.TryGetValue(key, out var answer))
            answers[key] = answer = Decide(machine, state, accounts, guards.All);
        if (answer is null)
            return null;
        if (!answer.Unlisted.IsEmpty)
            _unlisted.Add(answer.Unlisted);
        return (answer.Ways, _unlisted.Count == 0 ? FamilyList.Empty : new FamilyList([.. _unlisted]));
    }

    /// <summary>Looks up the packages of a machine that the brief is about; false where only its document says what becomes of them.</summary>
    private bool Look(FleetMachine machine, MachineState state, int accounts)
    {
        ulong everyone = accounts == NamePlaces.Most ? ulong.MaxValue : (1UL << accounts) - 1;
        _marked.Clear();
        _unlisted.Clear();
        _key.Clear();
        foreach (var bucket in machine.Buckets)
        {
            if (bucket.Items.IsEmpty)
                continue;
            var seen = _buckets.Of(bucket) ??= Look(bucket);
            if (seen.IsWhole)
                return false;
            foreach (var item in seen.Marked)
            {
                ulong? having = item.Item.HeldBy switch
                {
                    HeldBy.Everyone => everyone,
                    HeldBy.Nobody => 0,
                    _ => state.HoldersOf(item.Item),
                };
                if (having is not { } who)
                    return false;
                _marked.Add(new Marked(item, who, item.Alone));
                _key.Add((ulong)item.Number);
                _key.Add(who);
            }
            if (!seen.Unlisted.IsEmpty && _brief.Unlisted != UnlistedPackages.Keep)
                _unlisted.Add(seen.Unlisted);
            if (!seen.Titles.IsEmpty)
                _key.Add(ulong.MaxValue - (ulong)seen.Number);
        }
        return true;
    }

    /// <summary>Decides for the packages that were looked up; null where only documents say it.</summary>
    private Answer? Decide(FleetMachine machine, MachineState state, int accounts, ImmutableArray<BriefDifference> guards)
    {
        List<Marked> marked = [.. _marked];
        if (marked.Exists(m => !m.Seen.NeededFor.IsEmpty))
            Advise(marked);
        if (marked.Exists(m => !m.Seen.Exact.IsEmpty) && !HasOneOfEachName(marked))
            return null;
        // Without optional packages each package that goes is a group by itself.
        var groups = new List<List<Marked>>();
        foreach (var item in marked)
        {
            if (!item.Choice.Taken)
                continue;
            if (item.Seen.Item is { IsHeld: false } or { Role: not (PackageRole.Application or PackageRole.Addon) })
                return null;
            if (!item.Choice.Kept)
                groups.Add([item]);
        }
        if (marked.Exists(m => !m.Seen.Extends.IsEmpty) && !AddOptional(groups, marked))
            return null;
        var effects = groups.ConvertAll(g => EffectOf(g, accounts, state.HasBlocks));
        var differences = effects.SelectMany(e => e.Differences).OrderBy(d => d.Title, StringComparer.OrdinalIgnoreCase).ThenBy(d => d.Name)
            .Select(d => d.Difference);
        if (state.HasBlocks && _blockable.Count > 0)
        {
            differences = differences.Concat(Blocks(machine, Blocked(state.Blocks).Families, effects.SelectMany(e => e.Blocked),
                marked.Where(m => m.Choice.Kept).Select(m => m.Seen.Item.Family)));
        }
        return new Answer([.. differences, .. guards], _brief.Unlisted == UnlistedPackages.Keep ? [] : Unlisted(marked));
    }

    /// <summary>Puts optional packages to those that they extend, with which they go, or which they keep; false if that is not that simple.</summary>
    private static bool AddOptional(List<List<Marked>> groups, List<Marked> marked)
    {
        var taken = new Dictionary<string, Seen>(StringComparer.OrdinalIgnoreCase);
        foreach (var item in marked.Where(m => m.Choice.Taken))
        {
            // A store that somebody else wrote may have a family in two buckets.
            if (!taken.TryAdd(item.Seen.Item.Family.ToString(), item.Seen))
                return false;
        }
        foreach (var addon in marked.Where(m => m.Seen.Extends.Any(taken.ContainsKey)))
        {
            var mains = addon.Seen.Extends.Where(taken.ContainsKey).ToList();
            string family = addon.Seen.Item.Family.ToString();
            // Whether one that nobody has leaves traces is in documents.
            if (mains.Count > 1 || !addon.Seen.Item.IsHeld || !taken[mains[0]].Extends.IsEmpty
                || marked.Exists(m => m.Seen.Extends.Contains(family, StringComparer.OrdinalIgnoreCase)))
                return false;
            var main = groups.Find(g => ReferenceEquals(g[0].Seen, taken[mains[0]]));
            if (main is null)
                continue;
            if (main.Exists(m => m.Seen.Item.FullName == addon.Seen.Item.FullName))
                return false;
            groups.RemoveAll(g => ReferenceEquals(g[0].Seen, addon.Seen));
            main.Add(addon);
        }
        return true;
    }

    private SeenBucket Look(FleetBucket bucket)
    {
        var seen = new Seen[bucket.Items.Length];
        bool mayBeWhole = false, isMarked = false, isTold = false;
        for (int i = 0; i < seen.Length; i++)
        {
            seen[i] = Look(bucket.Items[i]);
            isMarked |= seen[i].IsMarked;
            isTold |= seen[i].IsTold;
            // A hostile store may have many in one.
            for (int other = 0; other < i && seen.Length <= Few; other++)
                mayBeWhole |= seen[other].Item.Family == seen[i].Item.Family;
        }
        mayBeWhole |= seen.Length > Few && seen.DistinctBy(s => s.Item.Family).Count() < seen.Length;
        if (!mayBeWhole && !isMarked && !isTold && _blockable.Count == 0)
            return SeenBucket.Nothing;
        // Of several versions of a family those that nobody has do not matter, unless a rule means one of them.
        bool isWhole = mayBeWhole && seen.GroupBy(s => s.Item.Family).Any(g => g.Skip(1).Any()
            && (_blockable.Contains(g.Key) || g.Count(s => s.IsTold) > 1 || g.Any(s => s.IsChosen || !s.Extends.IsEmpty)));
        return new SeenBucket(
            ++_lastBucket, isWhole, !isMarked ? [] : [.. seen.Where(s => s.IsMarked)],
            !isTold ? [] : [.. seen.Where(s => s.IsTold && !s.IsChosen && s.Extends.IsEmpty).Select(s => (s.Item.Family, s.Item.Title))],
            _blockable.Count == 0 ? [] : [.. seen.Where(s => _blockable.Contains(s.Item.Family)).Select(s => (s.Item.Family, s.Item.Title))]);
    }

    private Seen Look(FleetItem item)
    {
        if (_items.TryGetValue(item, out var known))
            return known;
        var package = PackageOf(item);
        var costly = item with { Standing = PackageStanding.Costly };
        var advice = _brief.Advice.Needs;
        bool isNoted = item.Standing == PackageStanding.Free && _brief.Advice.NotesOn(package).Any();
        var alone = Choose(isNoted ? costly : item, package);
        ImmutableArray<int> neededFor = item.Standing == PackageStanding.Free && !isNoted
            ? [.. advice.Index().Where(n => n.Item.Needs.Any(p => NamePattern.FitsLasting(p, package))).Select(n => n.Index)] : [];
        var needed = neededFor.IsEmpty ? alone : Choose(costly, package);
        return _items[item] = new Seen
        {
            Number = _items.Count,
            Item = item,
            Package = package,
            Alone = alone,
            Needed = needed,
            NeededFor = alone == needed ? [] : neededFor,
            Needing = [.. advice.Index().Where(n => NamePattern.FitsLasting(n.Item.Package, package)).Select(n => n.Index)],
            Exact = [.. _exactNames.Index().Where(n => NamePattern.FitsLasting(n.Item, package)).Select(n => n.Index)],
            Extends = [.. item.Extends.Split('\n', StringSplitOptions.RemoveEmptyEntries)],
            IsTold = _brief.Unlisted != UnlistedPackages.Keep && PackageConditions.IsOrdinary(package) && item.IsHeld
                && !_named.Contains(item.Family),
        };
    }

    /// <summary>A package as rules by names and origin see it, without those who have it.</summary>
    internal static InstalledPackage PackageOf(FleetItem item) => new(
        item.FullName, item.Title, item.RawName ?? item.Title, item.Publisher, item.Role, item.Origin, item.Bytes, [], item.Newcomers, item.Blocked,
        [], [.. item.Parts.Split('\n', StringSplitOptions.RemoveEmptyEntries).Prepend(item.FullName.ToString())
            .Select(p => PackageFullName.TryParse(p, out var name) ? name : throw new FormatException("a part of a package"))
            .Select(n => new PackagePart(n, PartKind.Main, 0, []))], [], null)
    {
        NeutralName = item.NeutralTitle,
        HasFiles = item.HasFiles,
    };

    /// <summary>As <see cref="BriefSelection"/> chooses.</summary>
    private Choice Choose(FleetItem item, InstalledPackage package)
    {
        bool taken = false, exactly = false, kept = false;
        if (!item.HasFiles && !item.IsHeld)
            return default;
        foreach (var rule in _brief.Remove)
        {
            if (rule.Conditions.Spares(package) || Means(rule.Conditions, item, package) is not { } exact)
                continue;
            taken = true;
            exactly |= exact;
        }
        foreach (var rule in _brief.Keep)
            kept |= Means(rule.Conditions, item, package) is not null;
        return new Choice(taken, exactly, kept);
    }

    /// <summary>True if conditions mean a package and name it without a wildcard, false if they mean it otherwise, null if they do not.</summary>
    internal static bool? Means(PackageConditions conditions, FleetItem item, InstalledPackage package)
    {
        return conditions.ExactNames(package, isOfBrief: true) is { } exact && conditions.Reaches(package, exact) && item.Fits(conditions)
            ? exact.Count > 0 : null;
    }

    /// <summary>Looks whether packages have others on the machine that need them, as the brief's advice says.</summary>
    private static void Advise(List<Marked> marked)
    {
        for (int i = 0; i < marked.Count; i++)
        {
            var (seen, accounts, _) = marked[i];
            if (seen.NeededFor.IsEmpty)
                continue;
            bool isNeeded = marked.Exists(other => other.Seen.Item.Family != seen.Item.Family && other.Seen.Needing.Any(seen.NeededFor.Contains)
                && ((other.Accounts & accounts) != 0 || (other.Seen.Item.Newcomers && seen.Item.Newcomers))
                && !other.Seen.Extends.Contains(seen.Item.Family.ToString(), StringComparer.OrdinalIgnoreCase));
            if (isNeeded)
                marked[i] = new Marked(seen, accounts, seen.Needed);
        }
    }

    /// <summary>False if a name without a wildcard fits several families, which is an error.</summary>
    private static bool HasOneOfEachName(List<Marked> marked)
    {
        Dictionary<int, PackageFamilyName>? families = null;
        foreach (var (seen, _, _) in marked)
        {
            foreach (int name in seen.Exact)
            {
                families ??= [];
                if (!families.TryAdd(name, seen.Item.Family) && families[name] != seen.Item.Family)
                    return false;
            }
        }
        return true;
    }

    /// <summary>The differences that a package with its optional ones makes, with placeholders for the accounts' names.</summary>
    private Effect EffectOf(List<Marked> group, int accounts, bool hasBlocks)
    {
        if (group.Count == 1)
        {
            var key = (group[0].Seen.Number, group[0].Accounts, accounts, hasBlocks);
            return _single.TryGetValue(key, out var known) ? known : _single[key] = Plan(group, accounts, hasBlocks);
        }
        string name = $"{accounts} {hasBlocks} " + string.Join(' ', group.Select(g =>
            $"{g.Seen.Number}:{g.Accounts:x}:{(g.Choice.Taken ? 't' : '-')}{(g.Choice.Kept ? 'k' : '-')}"));
        return _groups.TryGetValue(name, out var planned) ? planned : _groups[name] = Plan(group, accounts, hasBlocks);
    }

    private Effect Plan(List<Marked> group, int accounts, bool hasBlocks)
    {
        var people = StoredGuardCheck.People(accounts);
        ImmutableArray<InstalledPackage> packages = [.. group.Select((g, i) => g.Seen.Package with
        {
            Accounts = [.. Enumerable.Range(0, accounts).Where(a => (g.Accounts >> a & 1) != 0).Select(a => $"{a}")],
            Needs = i == 0 ? [] : [group[0].Seen.Item.FullName],
        })];
        var system = new SystemSnapshot("", "", "", hasBlocks ? BuildWithBlocks : BuildWithout, "", "", "", people, packages, [], []);
        var request = new RemovalRequest(
            [.. group.Zip(packages).Where(g => g.First.Choice is { Taken: true, Kept: false })
                .Select(g => new SelectedPackage(g.Second, g.First.Choice.Exactly))],
            new Audience(_accounts ? [.. people.Select(p => p.Sid)] : [], _newcomers))
        {
            Kept = [.. group.Where(g => g.Choice.Kept).Select(g => g.Seen.Item.FullName)],
        };
        var plan = RemovalPlanner.Plan(system, request);
        var differences = BriefPlanner.Differences(plan, system, _ => false, _ => false);
        var order = plan.Removals.Where(r => r.HasEffect).Select(r => r.Package).ToList();
        return new Effect(
            [.. differences.Select((d, i) => (order[i].DisplayName, order[i].FullName, d))],
            [.. plan.Removals.Where(r => r.SetsBlock).Select(r => r.Package.Family).Distinct()]);
    }

    private (int Number, HashSet<string> Families) Blocked(string blocks)
    {
        if (!_blocks.TryGetValue(blocks, out var known))
            _blocks[blocks] = known = (_blocks.Count + 1, [.. blocks.Split('\n')]);
        return known;
    }

    /// <summary>Families that the brief wants blocked, and that are not.</summary>
    private IEnumerable<BriefDifference> Blocks(
        FleetMachine machine, HashSet<string> there, IEnumerable<PackageFamilyName> planned, IEnumerable<PackageFamilyName> kept)
    {
        var titles = new Dictionary<PackageFamilyName, string>();
        foreach (var (family, title) in machine.Buckets.Where(b => !b.Items.IsEmpty).SelectMany(b => _buckets.Of(b)!.Titles))
            titles[family] = title;
        return _brief.Block.Concat(_newcomers ? _brief.Remove.SelectMany(r => r.Families) : []).Distinct()
            .Except(_keptFamilies).Except(kept).Except(planned).Where(f => !there.Contains(f.ToString()))
            .Select(f => BriefPlanner.NotBlocked(f, titles.GetValueOrDefault(f)));
    }

    /// <summary>Packages that rules or others are about, and that stay or go with no rule for them.</summary>
    private static ImmutableArray<(PackageFamilyName Family, string Title)> Unlisted(List<Marked> marked)
    {
        var going = marked.Where(m => m.Choice is { Taken: true, Kept: false }).Select(m => m.Seen.Item.Family.ToString())
            .ToHashSet(StringComparer.OrdinalIgnoreCase);
        return [.. marked.Where(m => m.Seen.IsTold && (m.Seen.IsChosen || !m.Seen.Extends.IsEmpty) && !m.Choice.Taken && !m.Choice.Kept
            && !m.Seen.Extends.Any(going.Contains)).Select(m => (m.Seen.Item.Family, m.Seen.Item.Title))];
    }
}
