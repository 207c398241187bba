using System.Collections.Concurrent;
using System.Runtime.InteropServices;
using Moorfield.Core.Assessment;
using Moorfield.Core.Selection;

namespace Moorfield.Core.Fleets;

/// <summary>How many of a machine's accounts have a package.</summary>
public enum HeldBy
{
    /// <summary>None of them.</summary>
    Nobody,
    /// <summary>Some, and not all.</summary>
    Some,
    /// <summary>All of them.</summary>
    Everyone,
}

/// <summary>A package as machines have it: those that have it in the same way share one.</summary>
/// <param name="Publisher">The publisher's display name.</param>
/// <param name="Description">Null when it is not known.</param>
/// <param name="Bytes">Bytes of its files.</param>
/// <param name="Newcomers">True if new accounts get it.</param>
/// <param name="Blocked">True if a block keeps it from being provisioned again.</param>
public sealed record FleetItem(
    PackageFullName FullName, string Title, string NeutralTitle, string Publisher, string? Description, PackageRole Role, PackageOrigin Origin,
    long Bytes, bool StartsWithWindows, bool RunsInBackground, bool HasFiles, HeldBy HeldBy, bool Newcomers, bool Blocked,
    PackageStanding Standing)
{
    /// <summary>Its display name as the manifest has it, where that is another text.</summary>
    public string? RawName { get; init; }

    /// <summary>Full names of its bundle and resource packages, a line each.</summary>
    public string Parts { get; init; } = "";

    /// <summary>Families of the packages that it needs, a line each, if it is an optional package.</summary>
    public string Extends { get; init; } = "";

    /// <summary>True if no document had a name for it, so that its title is a guess from its family's.</summary>
    public bool IsNameGuessed { get; init; }

    /// <summary>The family that it is a version of.</summary>
    public PackageFamilyName Family => FullName.Family;

    /// <summary>Its version.</summary>
    public PackageVersion Version => FullName.Version;

    /// <summary>True if an account has it or new accounts get it.</summary>
    public bool IsHeld => Newcomers || HeldBy != HeldBy.Nobody;

    internal static FleetItem Of(InstalledPackage package, SystemSnapshot system, RemovalAssessment assessment) => new(
        package.FullName, package.DisplayName, package.NeutralName, package.Publisher, package.Manifest?.Description, package.Role, package.Origin,
        package.Bytes, package.StartsWithWindows, package.RunsInBackground, package.HasFiles, Held(package, system), package.Newcomers,
        package.Blocked, assessment.Of(package).Standing)
    {
        RawName = package.RawDisplayName == package.DisplayName ? null : package.RawDisplayName,
        IsNameGuessed = package.NameSource == NameSource.Name,
        Parts = string.Join('\n', package.Parts.Select(p => p.FullName).Where(n => n != package.FullName).Select(n => n.ToString())
            .Order(StringComparer.Ordinal)),
        Extends = package.Role != PackageRole.Addon ? ""
            : string.Join('\n', package.Needs.Select(n => n.Family.ToString()).Distinct().Order(StringComparer.Ordinal)),
    };

    /// <summary>True if it fits all conditions but the names, as <see cref="PackageConditions.Fits(InstalledPackage, RemovalAssessment)"/>.</summary>
    public bool Fits(PackageConditions conditions) =>
        (conditions.Publishers.IsEmpty || conditions.Publishers.Any(p => NamePattern.Matches(p, Publisher)))
        && (conditions.Origins.IsEmpty || conditions.Origins.Contains(Origin))
        && (conditions.Roles.IsEmpty || conditions.Roles.Contains(Role))
        && (conditions.Find.IsEmpty || conditions.Find.Any(Has))
        && (conditions.LargerThan is not { } larger || Bytes > larger)
        && (conditions.SmallerThan is not { } smaller || Bytes < smaller)
        && (conditions.StartsWithWindows is not { } starts || starts == StartsWithWindows)
        && (conditions.RunsInBackground is not { } runs || runs == RunsInBackground)
        && (conditions.Standings.IsEmpty || conditions.Standings.Contains(Standing));

    /// <summary>True if an argument names it: by display name, name, family name or full name.</summary>
    public bool IsCalled(string argument) =>
        new[] { Title, NeutralTitle, FullName.Name, Family.ToString(), FullName.ToString() }
            .Any(n => n.Length > 0 && NamePattern.Matches(argument, n));

    private bool Has(string text) => new[] { Title, NeutralTitle, FullName.ToString(), Publisher, Description, RawName }
        .Any(t => t?.Contains(text, StringComparison.OrdinalIgnoreCase) == true);

    private static HeldBy Held(InstalledPackage package, SystemSnapshot system)
    {
        int having = system.Accounts.Count(a => package.Accounts.Contains(a.Sid));
        return having == 0 ? HeldBy.Nobody : having == system.Accounts.Length ? HeldBy.Everyone : HeldBy.Some;
    }
}

/// <summary>Packages that machines have together; whoever has the same shares one.</summary>
/// <param name="number">Its number in a store, up to some millions; 0 for one without.</param>
public sealed class FleetBucket(ImmutableArray<FleetItem> items, int number = 0)
{
    internal int Number => number;

    /// <summary>All of a family that a machine has are in one of its buckets.</summary>
    public ImmutableArray<FleetItem> Items => items;

    /// <summary>The buckets of machines that hold something, each once, with the number of machines that have it.</summary>
    internal static List<(FleetBucket Bucket, int Machines)> Counted(IEnumerable<FleetMachine> machines)
    {
        var places = new BucketTable<int>();
        var counts = new List<(FleetBucket Bucket, int Machines)>();
        foreach (var machine in machines)
        {
            foreach (var bucket in machine.Buckets)
            {
                if (bucket.Items.IsEmpty)
                    continue;
                ref int place = ref places.Of(bucket);
                if (place == 0)
                {
                    counts.Add((bucket, 0));
                    place = counts.Count;
                }
                CollectionsMarshal.AsSpan(counts)[place - 1].Machines++;
            }
        }
        return counts;
    }
}

/// <summary>A value for each bucket of a reading. A hundred thousand machines have millions: they are found by number.</summary>
internal sealed class BucketTable<T>
{
    private readonly Dictionary<FleetBucket, T> _others = [];
    private T?[] _numbered = [];

    /// <summary>The value of a bucket, to be read and set.</summary>
    internal ref T? Of(FleetBucket bucket)
    {
        if (bucket.Number == 0)
            return ref CollectionsMarshal.GetValueRefOrAddDefault(_others, bucket, out _);
        if (bucket.Number >= _numbered.Length)
            Array.Resize(ref _numbered, Math.Max(bucket.Number + 1, 2 * _numbered.Length));
        return ref _numbered[bucket.Number];
    }
}

/// <summary>The packages of a fleet, each kept once.</summary>
internal sealed class FleetItems
{
    private readonly ConcurrentDictionary<FleetItem, FleetItem> _items = [];

    internal FleetItem The(FleetItem item) => _items.GetOrAdd(item, item);

    /// <summary>The items of a system that fit.</summary>
    internal ImmutableArray<FleetItem> Of(SystemSnapshot system)
    {
        var assessment = new RemovalAssessment(system);
        return [.. system.Packages.Select(p => The(FleetItem.Of(p, system, assessment)))];
    }
}
