using Moorfield.Core.Targets;

namespace Moorfield.Core.Fleets;

/// <summary>A machine, or an edition of an image, of a fleet.</summary>
/// <param name="Source">The file that it was read from.</param>
/// <param name="Id">The system's MachineGuid; empty when it has none.</param>
/// <param name="Made">When the survey was made; null for what was read otherwise.</param>
/// <param name="Gaps">The data that could not be read, a sentence each.</param>
/// <param name="HandOvers">The last run of each hand-over, the last one first.</param>
/// <param name="Buckets">Its packages.</param>
public sealed record FleetMachine(
    string Source, string Name, string Id, string System, string Build, string Maker, DateTimeOffset? Made, ImmutableArray<string> Gaps,
    ImmutableArray<HandOverRecord> HandOvers, ImmutableArray<FleetBucket> Buckets)
{
    /// <summary>Its packages.</summary>
    public IEnumerable<FleetItem> Items => Buckets.SelectMany(b => b.Items);

    /// <summary>The last run of a hand-over; null when none is recorded there.</summary>
    public HandOverRecord? HandOver => HandOvers.FirstOrDefault();

    /// <summary>The identifier of its firmware; empty when none is recorded.</summary>
    public string FirmwareId { get; init; } = "";

    /// <summary>The product name of its Windows; empty when it is not known, as the site is.</summary>
    public string Product { get; init; } = "";

    /// <summary>Its site in the directory.</summary>
    public string Site { get; init; } = "";

    /// <summary>True for an edition of an image, which is no machine.</summary>
    public bool IsEdition { get; init; }

    /// <summary>The facts that judging it by its packages needs; null where they were not read.</summary>
    internal MachineState? State { get; init; }

    /// <summary>The number of its row in a store; 0 outside of one.</summary>
    internal long Row { get; init; }

    /// <summary>Milliseconds since 1970 at which its packages began to be these, in a store.</summary>
    internal long Since { get; init; }

    /// <summary>The same of its newest document.</summary>
    internal long Seen { get; init; }

    /// <summary>The accounts that have packages which some of them have, a bit each; for stores.</summary>
    internal ImmutableArray<(FleetItem Item, ulong Accounts)> Holders { get; init; } = [];

    /// <summary>The facts by which briefs choose machines; null for an edition of an image.</summary>
    public MachineFacts? Facts => IsEdition ? null : new(Name, Maker, Product, Build, Site);

    /// <summary>
    /// The same for all documents of one machine: the identifiers of its system and of its firmware. Copies of a system have the first in common;
    /// where there is no second, its name tells them apart.
    /// </summary>
    internal (string Id, string Other) Key => KeyOf(Id, FirmwareId, Name);

    internal static (string Id, string Other) KeyOf(string id, string firmware, string name) =>
        (id.ToUpperInvariant(), (firmware.Length > 0 && id.Length > 0 ? firmware : name).ToUpperInvariant());

    internal static FleetMachine Of(Target target, SystemSnapshot system, FleetItems items)
    {
        var own = items.Of(system);
        return new FleetMachine(
            target.FullPath, NameOf(target, system), system.MachineId, $"{system.Product} {system.Release}".Trim(), system.Build,
            system.Manufacturer, system.AsOf, target.Gaps, [.. system.HandOvers], [new FleetBucket(own)])
        {
            FirmwareId = system.FirmwareId,
            Product = system.Product,
            Site = system.Site,
            IsEdition = system.EditionNumber is not null,
            State = MachineState.Of(system),
            Holders = [.. own.Zip(system.Packages).Where(p => p.First.HeldBy == HeldBy.Some)
                .Select(p => (p.First, MachineState.Mask(p.Second, system)))],
        };
    }

    /// <summary>The name of a machine; of an edition, with its number and the file's name.</summary>
    internal static string NameOf(Target target, SystemSnapshot system) =>
        system.EditionNumber is { } number ? $"edition {number} of {target.Name}" : system.Computer.Length > 0 ? system.Computer : target.Name;
}
