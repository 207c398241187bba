using Moorfield.Core.Images;
using Moorfield.Core.Planning;
using Moorfield.Core.Reading;
using Moorfield.Core.Selection;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Core.Transactions;
using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Operations;

/// <summary>Which packages come back, for whom, and how.</summary>
public sealed record BringBackProposal(ImmutableArray<SystemSnapshot> Systems, ImmutableArray<BringBackPlan> Plans, RunRequest Request)
    : RunProposal(Systems, Request)
{
    public override bool IsSameAs(Proposal other) => other is BringBackProposal { Plans: var plans }
        && Plans.SelectMany(p => p.Packages).Select(p => p.FullName).SequenceEqual(plans.SelectMany(p => p.Packages).Select(p => p.FullName))
        && Request.Changes.Select(c => c.Describe()).SequenceEqual(((BringBackProposal)other).Request.Changes.Select(c => c.Describe()),
            StringComparer.Ordinal);
}

/// <summary>Where packages are taken from.</summary>
/// <param name="Path">Of another target, or of a package file.</param>
/// <param name="Other">The other target, opened; null for a package file.</param>
/// <param name="Edition">Word of a person for the edition; null for the one of the same kind.</param>
public sealed record BringBackSource(string Path, Target? Other, string? Edition);

/// <summary>Gives packages again that are gone.</summary>
/// <param name="systems">As the command has read them.</param>
/// <param name="arguments">The packages as the person named them.</param>
/// <param name="who">Words of WHO.</param>
/// <param name="origins">Where they may be taken from; none for those whose files are on the target.</param>
/// <param name="vault">Whose restore points may hold the files; null if there is none.</param>
/// <param name="guards">Those that may have been set for them, which the systems were read with.</param>
public sealed class BringBackOperation(
    Target target, ImmutableArray<SystemSnapshot> systems, IReadOnlyCollection<string> arguments, IReadOnlyCollection<string> who,
    ImmutableArray<BringBackSource> origins, Vault? vault, IReadOnlyCollection<Guard> guards) : RunOperation<BringBackProposal>(target, systems,
        guards)
{
    private readonly DateTimeOffset _now = DateTimeOffset.UtcNow;
    private readonly Lock _gate = new();
    private readonly IReadOnlyCollection<Guard> _guards = guards;
    private IReadOnlyCollection<ForeignContent> _contents = [];

    /// <summary>Guards that runs set on a system for a package, or for whatever: what may have to be lifted when that comes back.</summary>
    public static ImmutableArray<Guard> GuardsSet(Vault? vault, TargetIdentity target) => vault is null ? [] :
    [
        .. PointHistory.Read(vault, _ => { }).Where(p => PointHistory.CanBeUndone(p) && p.Point.Target.IsSameSystemAs(target)
            && p.Point.Intents.Any(i => i.Kind == IntentKind.Guard))
            .SelectMany(p => vault.TryRead(p.Point.Number)?.Changes.OfType<ValueChanged>() ?? [])
            .Where(c => c.After is not null && GuardPlace.Of(c.Hive) is not null && PackageFamilyName.TryParse(c.Family, out _))
            .Select(c => new Guard(null, GuardPlace.Of(c.Hive)!.Hive, c.Key, c.After!, c.Family, null))
            .DistinctBy(g => (g.Hive, g.Key.ToUpperInvariant(), g.Value.Name.ToUpperInvariant())),
    ];

    protected override bool TakesEncrypted => vault is { HasOpenedSealed: true };

    protected override BringBackProposal Propose()
    {
        var now = Systems();
        var trees = Target.Trees ?? throw new MoorfieldException(RefusalReason.ReadOnly, Target.ReadOnlyReason()!);
        ImmutableArray<BringBackPlan> plans = [.. now.Select(system => Plan(trees, system, (plan, _) => plan))];
        var packages = plans.SelectMany(p => p.Packages.Select(b => (p.Snapshot, Package: b))).ToList();
        var names = packages.Where(p => p.Package.NeededBy is null).Select(p => p.Package.DisplayName).Distinct(StringComparer.Ordinal).ToList();
        var audience = AudienceParser.Parse(who, now[0]);
        return new BringBackProposal(now, plans, new RunRequest(
            RunKind.BringBack, $"bring back {TextFormat.List(names, 3)} for {audience.Describe(now[0])}", null, Target.Identify(now[0]),
            [.. packages.Select(p => new ConcernedPackage(p.Package.FullName.Family.ToString(), p.Package.DisplayName,
                p.Snapshot.EditionNumber)).Distinct()],
            [.. plans.SelectMany(p => p.Changes)])
        {
            Expected = [.. plans.Select(p => new BringBackExpectation(p.Snapshot, [.. p.Packages.Select(b => (b.FullName, b.Sids, b.Newcomers))]))],
        });
    }

    /// <summary>Plans for one system while everything is open that it takes from.</summary>
    private T Plan<T>(ITreeProvider trees, SystemSnapshot system, Func<BringBackPlan, IEnumerable<ForeignContent>, T> use) =>
        trees.With(system.EditionNumber, tree =>
        WithOffers(system, tree, 0, [], offers =>
        {
            using var facts = new BringBackFacts(tree, system, offers,
                () => vault is null ? [] : RecordedOffer.Of(vault, Target.Identify(system), system.EditionNumber));
            var plan = new BringBackPlanner(facts, system, AudienceParser.Parse(who, system), _guards, _now).Plan(arguments);
            return use(plan, facts.Contents);
        }));

    private T WithOffers<T>(SystemSnapshot system, WindowsTree tree, int at, ImmutableList<PackageOffer> open, Func<IReadOnlyList<PackageOffer>,
        T> use)
    {
        if (at == origins.Length)
            return use(open);
        var origin = origins[at];
        if (origin.Other is null)
        {
            using var archive = new ArchiveOffer(origin.Path, system, SystemReader.Languages(tree));
            return WithOffers(system, tree, at + 1, open.Add(archive), use);
        }
        int? edition = Edition(origin, system);
        var other = origin.Other.Read([edition])[0];
        return (origin.Other.Trees ?? throw new MoorfieldException(ErrorKind.InvalidUsage,
            $"{origin.Path} is {origin.Other.Description}, which has no files. Name a system, an image or a package file with --from."))
            .With(edition, from => WithOffers(system, tree, at + 1, open.Add(new SystemOffer(from, other)), use));
    }

    /// <summary>The edition that a person named, or the one of the same kind as the system's, or the first.</summary>
    private static int? Edition(BringBackSource origin, SystemSnapshot system)
    {
        var other = origin.Other!;
        if (origin.Edition is { } word)
            return other.SelectEditions([word])[0];
        return !other.HasEditions ? null : other.Editions.FirstOrDefault(e => e.EditionId.Length > 0
            && e.EditionId.Equals(system.EditionId, StringComparison.OrdinalIgnoreCase))?.Number ?? other.SelectEditions([])[0];
    }

    protected override Outcome Run(BringBackProposal proposal, RunSettings settings, CancellationToken stop)
    {
        if (settings.VaultPath is null)
            throw new MoorfieldException(ErrorKind.InvalidUsage, "bring-back needs a restore point.");
        CheckRoom(proposal);
        return WithContents(proposal, 0, [], contents =>
        {
            _contents = contents;
            return base.Run(proposal with
            {
                Request = proposal.Request with
                {
                    Contents = contents.Where(c => c.Sha256.Length == 0).DistinctBy(c => c.Sha1)
                        .ToDictionary(c => c.Sha1, c => new RestorableContent(null, () => OpenExclusively(c))),
                },
            }, settings, stop);
        });
    }

    protected override void Prepare(Vault? vault)
    {
        foreach (var content in Target.TakesContentsDirectly ? [] : _contents)
            Keep(vault!, content);
    }

    /// <summary>A folder is written file by file: that all of them find room is looked at first. A disk takes all or nothing.</summary>
    private void CheckRoom(BringBackProposal proposal)
    {
        long needed = proposal.Plans.Sum(p => p.Room);
        if (Target.FreeBytes is { } free && free < needed)
        {
            throw new MoorfieldException(RefusalReason.NoRoom,
                $"{Target.Name} has {TextFormat.Size(free)} left, and what comes back needs {TextFormat.Size(needed)}. Nothing was changed.");
        }
    }

    /// <summary>Opens a content for one of several editions at work: sources are read by one at a time.</summary>
    private FileStream OpenExclusively(ForeignContent content)
    {
        lock (_gate)
        {
            return new FileStream(FileContent.InMemory(content.Open()), FileAccess.Read);
        }
    }

    /// <summary>Does something while the contents of all systems' plans can be opened.</summary>
    private T WithContents<T>(
        BringBackProposal proposal, int at, ImmutableList<ForeignContent> contents, Func<IReadOnlyCollection<ForeignContent>, T> use) =>
        at == proposal.Systems.Length ? use(contents) : Plan(Target.Trees!, proposal.Systems[at],
            (_, own) => WithContents(proposal, at + 1, contents.AddRange(own), use));

    private static void Keep(Vault vault, ForeignContent content)
    {
        string kept = vault.Keep(take =>
        {
            using var stream = content.Open();
            byte[] buffer = new byte[1 << 17];
            while (stream.Read(buffer) is > 0 and int got)
                take(buffer.AsSpan(0, got));
        });
        if (kept != content.Sha256)
            throw new MoorfieldException(RefusalReason.ChangedSince,
                "What is to come back was changed by something else since the preview. Nothing was changed.");
    }
}
