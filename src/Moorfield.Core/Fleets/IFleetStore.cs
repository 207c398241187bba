namespace Moorfield.Core.Fleets;

/// <summary>A state of a machine's packages.</summary>
/// <param name="Since">When the first document with it was made.</param>
public sealed record FleetState(DateTimeOffset Since, ImmutableArray<FleetBucket> Buckets)
{
    /// <summary>All that it has of a family.</summary>
    /// <param name="slot">The bucket that the family is in, where that is known.</param>
    internal IEnumerable<FleetItem> Of(PackageFamilyName family, int? slot) =>
        (slot is { } at ? Buckets[at].Items : Buckets.SelectMany(b => b.Items)).Where(i => i.Family == family);
}

/// <summary>A machine as one document has it, to be kept.</summary>
/// <param name="Digest">The SHA-256 of the document as it came; known documents are not read again.</param>
/// <param name="Machine">With all its packages.</param>
/// <param name="Document">The document, a survey or a saved inventory.</param>
public sealed record FleetEntry(ReadOnlyMemory<byte> Digest, FleetMachine Machine, ReadOnlyMemory<byte> Document);

/// <summary>The fate of entries, in numbers.</summary>
/// <param name="New">Machines that were not known.</param>
/// <param name="Changed">Newer documents with other packages.</param>
/// <param name="Same">Newer documents with the same packages.</param>
/// <param name="Late">Older documents, which count for the past only.</param>
public sealed record FleetAdded(int New, int Changed, int Same, int Late)
{
    /// <summary>Both together.</summary>
    public static FleetAdded operator +(FleetAdded left, FleetAdded right) =>
        new(left.New + right.New, left.Changed + right.Changed, left.Same + right.Same, left.Late + right.Late);
}

/// <summary>
/// A fleet that is kept: the newest document of each machine, and what it had before. One who adds, many who read. Every class that keeps one has
/// to pass FleetStoreConformance.
/// </summary>
public interface IFleetStore : IFleet
{
    /// <summary>The digests, among those given, of documents that were added before.</summary>
    IReadOnlySet<byte[]> Known(IReadOnlyCollection<byte[]> digests);

    /// <summary>Adds entries: all of them, or none when it fails or is killed.</summary>
    FleetAdded Add(IReadOnlyCollection<FleetEntry> entries);

    /// <summary>The machines as they were on a day; those that were not known then are missing.</summary>
    /// <param name="day">A time.</param>
    /// <param name="fits">True for packages that are wanted; null for all.</param>
    /// <param name="now">Its machines as they are now, read with the same <paramref name="fits"/>; read again when null.</param>
    FleetReading At(DateTimeOffset day, Func<FleetItem, bool>? fits = null, FleetReading? now = null);

    /// <summary>All states that are known of a machine, the oldest first.</summary>
    IReadOnlyList<FleetState> History(FleetMachine machine);

    /// <summary>The same of many machines, one after the other.</summary>
    /// <param name="fits">True for packages that are wanted; null for all. The same one gives the same buckets as a reading with it.</param>
    IEnumerable<(FleetMachine Machine, IReadOnlyList<FleetState> States)> Histories(
        IReadOnlyCollection<FleetMachine> machines, Func<FleetItem, bool>? fits = null);

    /// <summary>Machines of a name, in any case.</summary>
    ImmutableArray<FleetMachine> Find(string name);

    /// <summary>Weeks one after the other up to this one: how many machines had which packages. Forgetting does not change weeks that are
    /// over.</summary>
    /// <param name="count">The number of weeks, from 1.</param>
    /// <param name="fits">True for packages that are wanted.</param>
    ImmutableArray<FleetWeek> Weeks(int count, Func<FleetItem, bool> fits);

    /// <summary>Names for families that documents have none for.</summary>
    PackageNames Names { get; }

    /// <summary>Takes names for families that have none yet, also for the packages that are there.</summary>
    /// <returns>The number of families that had none.</returns>
    int AddNames(PackageNames names);

    /// <summary>All versions of a family on the machines of a reading of this store, and since when each is there.</summary>
    ImmutableArray<FleetHolding> Holdings(FleetReading reading, PackageFamilyName family);

    /// <summary>Forgets machines whose newest document is older than a day.</summary>
    /// <returns>Their names.</returns>
    ImmutableArray<string> ForgetMachines(DateTimeOffset before);

    /// <summary>Forgets machines by their names, with wildcards.</summary>
    /// <returns>Their names.</returns>
    ImmutableArray<string> ForgetMachines(string name);

    /// <summary>Forgets states that ended before a day. What machines have now stays.</summary>
    /// <returns>The number of states.</returns>
    int ForgetStates(DateTimeOffset before);
}
