using System.Collections.Concurrent;
using Moorfield.Core.Assessment;
using Moorfield.Core.Targets;

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
/// <param name="Newcomers">True if new accounts get it.</param>
/// <param name="Blocked">True if a block keeps it from being provisioned again.</param>
/// <param name="Reasons">Bars to its removal and costs of it, a line each; empty when nobody asked.</param>
public sealed record FleetItem(
    PackageFamilyName Family, string Title, PackageVersion Version, PackageRole Role, PackageOrigin Origin, HeldBy HeldBy, bool Newcomers,
    bool Blocked, PackageStanding Standing, string Reasons);

/// <summary>The packages of a fleet, each kept once. Machines that differ in much share most of them.</summary>
internal sealed class FleetItems
{
    private readonly ConcurrentDictionary<FleetItem, FleetItem> _items = [];

    internal FleetItem The(FleetItem item) => _items.GetOrAdd(item, item);
}

/// <summary>A machine, or an edition of an image, of a fleet.</summary>
/// <param name="Source">The file that it was read from.</param>
/// <param name="Id">The system's MachineGuid; empty when it has none.</param>
/// <param name="Made">When the survey was made; null for what was read otherwise.</param>
/// <param name="Gaps">The data that could not be read, a sentence each.</param>
/// <param name="HandOver">The last run of a hand-over; null when none is recorded there.</param>
public sealed record FleetMachine(
    string Source, string Name, string Id, string System, string Build, string Maker, DateTimeOffset? Made, ImmutableArray<string> Gaps,
    HandOverRecord? HandOver, ImmutableArray<FleetItem> Items)
{
    /// <summary>The same for all documents of one machine: its identifier with its name, since clones have the same identifier.</summary>
    internal (string Id, string Name) Key => KeyOf(Id, Name);

    internal static (string Id, string Name) KeyOf(string id, string name) => (id.ToUpperInvariant(), name.ToUpperInvariant());

    internal static FleetMachine Of(
        Target target, SystemSnapshot system, Func<InstalledPackage, RemovalAssessment, bool> fits, bool withReasons, FleetItems items)
    {
        var assessment = new RemovalAssessment(system);
        FleetItem Item(InstalledPackage package)
        {
            var verdict = assessment.Of(package);
            return new FleetItem(
                package.Family, package.DisplayName, package.FullName.Version, package.Role, package.Origin, Held(package, system),
                package.Newcomers, package.Blocked, verdict.Standing, !withReasons ? ""
                    : string.Join('\n', verdict.Reasons.Where(r => r.Kind is ReasonKind.Bar or ReasonKind.Cost).Select(r => r.Text)));
        }
        return new FleetMachine(
            target.FullPath, NameOf(target, system), system.MachineId, $"{system.Product} {system.Release}".Trim(), system.Build,
            system.Manufacturer, system.AsOf, target.Gaps, system.HandOvers.FirstOrDefault(),
            [.. system.Packages.Where(p => fits(p, assessment)).Select(p => items.The(Item(p)))]);
    }

    /// <summary>The name of a machine; of an edition, with its number and the file's name.</summary>
    internal static string NameOf(Target target, SystemSnapshot system) =>
        system.EditionNumber is { } number ? $"edition {number} of {target.Name}" : system.Computer.Length > 0 ? system.Computer : target.Name;

    private static HeldBy Held(InstalledPackage package, SystemSnapshot system)
    {
        int having = system.Accounts.Count(a => package.Accounts.Contains(a.Sid));
        return having == 0 ? HeldBy.Nobody : having == system.Accounts.Length ? HeldBy.Everyone : HeldBy.Some;
    }
}
