using Moorfield.Core.Targets;

namespace Moorfield.Core.Fleets;

/// <summary>Many machines as one target.</summary>
public interface IFleet : IDisposable
{
    /// <summary>The time by which its documents are judged: of a store on a server, the server's.</summary>
    DateTimeOffset Now { get; }

    /// <summary>The path as a whole.</summary>
    string FullPath { get; }

    /// <summary>Its last name.</summary>
    string Name { get; }

    /// <summary>Its kind, in a few words.</summary>
    string Description { get; }

    /// <summary>The number of files in it that are something else.</summary>
    int Others { get; }

    /// <summary>Reads all machines with their packages.</summary>
    /// <param name="fits">True for packages that are wanted; null for all.</param>
    FleetReading Read(OpenOptions options, Func<FleetItem, bool>? fits = null);

    /// <summary>The same, of machines only names, files and packages where a fleet can leave the rest out.</summary>
    FleetReading ReadNames(OpenOptions options, Func<FleetItem, bool> fits);

    /// <summary>All machines with all packages, and what judging them by these needs; null when only documents say it.</summary>
    FleetReading? ReadStates();

    /// <summary>The sources of the machines that fit, as far as a fleet knows that without reading documents; null when it does not.</summary>
    IReadOnlySet<string>? SourcesOf(Func<MachineFacts, bool> fits);

    /// <summary>Takes something from each machine, by its newest document. One that cannot be read is among the failures.</summary>
    /// <param name="guards">Whose values are looked up as well.</param>
    /// <param name="take">Called from several threads, with the target still open.</param>
    /// <param name="only">Sources of the machines that are meant; null for all.</param>
    FleetContents<T> Read<T>(
        OpenOptions options, IReadOnlyCollection<Guard> guards, Func<Target, SystemSnapshot, T> take, IReadOnlySet<string>? only = null);
}

/// <summary>Opens fleets.</summary>
public static class Fleet
{
    /// <summary>Opens a folder of surveys, or a store; null when a path is another kind of target.</summary>
    /// <exception cref="MoorfieldException">It is a store that cannot be read.</exception>
    public static IFleet? TryOpen(string path) => FleetFolder.TryOpen(path) ?? (IFleet?)FleetStore.TryOpen(path);
}

/// <summary>A document of a fleet that could not be read.</summary>
public sealed record FleetFailure(string File, string Message);

/// <summary>All machines of a fleet.</summary>
/// <param name="Machines">By name; of each machine the newest document only.</param>
/// <param name="Failures">By file.</param>
/// <param name="Superseded">The number of older documents of machines that have a newer one.</param>
/// <param name="Now">When it was read.</param>
public sealed record FleetReading(ImmutableArray<FleetMachine> Machines, ImmutableArray<FleetFailure> Failures, int Superseded, DateTimeOffset Now)
{
    // A clock may be a little ahead, or in another time zone.
    private static readonly TimeSpan MaxAhead = TimeSpan.FromDays(1);

    /// <summary>Machines whose survey is dated later than today: their clocks are wrong.</summary>
    public IEnumerable<FleetMachine> Ahead => Machines.Where(m => m.Made > Now + MaxAhead);

    /// <summary>When a document was made; the beginning of time where nothing or something impossible says it, so that others are newer.</summary>
    internal static DateTimeOffset Dated(DateTimeOffset? made, DateTimeOffset now) =>
        made is { } at && at <= now + MaxAhead ? at : DateTimeOffset.MinValue;

    /// <summary>Identifiers that machines of different names share, with these names: clones, or machines that were renamed.</summary>
    public IEnumerable<(string Id, ImmutableArray<string> Names)> SharedIds => Machines.Where(m => m.Id.Length > 0)
        .GroupBy(m => m.Id, StringComparer.OrdinalIgnoreCase).Where(g => g.Count() > 1)
        .Select(g => (g.Key, g.Select(m => m.Name).ToImmutableArray()));

    /// <summary>The machines that have a family, each with all that it has of it.</summary>
    public IEnumerable<(FleetMachine Machine, ImmutableArray<FleetItem> Items)> Having(PackageFamilyName family)
    {
        var known = new BucketTable<ImmutableArray<FleetItem>>();
        foreach (var machine in Machines)
        {
            foreach (var bucket in machine.Buckets)
            {
                if (bucket.Items.IsEmpty)
                    continue;
                var own = known.Of(bucket);
                if (own.IsDefault)
                    known.Of(bucket) = own = [.. bucket.Items.Where(i => i.Family == family)];
                if (!own.IsEmpty)
                    yield return (machine, own);
            }
        }
    }

    /// <summary>The same machines with those packages only that fit.</summary>
    internal FleetReading Only(Func<FleetItem, bool> fits) =>
        this with
        {
            Machines = [.. Machines.Select(m => m with { Buckets = [.. m.Buckets.Select(b => new FleetBucket([.. b.Items.Where(fits)]))] })],
        };
}

/// <summary>A thing that was taken from a machine.</summary>
/// <param name="Source">The file that it was read from.</param>
/// <param name="Id">The system's MachineGuid; empty when it has none.</param>
/// <param name="Made">When the survey was made; null for what was read otherwise.</param>
/// <param name="FirmwareId">The identifier of its firmware; empty when none is recorded.</param>
/// <param name="Taken">The thing.</param>
public sealed record FleetContent<T>(string Source, string Name, string Id, string FirmwareId, DateTimeOffset? Made, T Taken)
{
    internal (string Id, string Other) Key => FleetMachine.KeyOf(Id, FirmwareId, Name);
}

/// <summary>Things that were taken from all machines of a fleet, by name, each from its newest document.</summary>
public sealed record FleetContents<T>(
    ImmutableArray<FleetContent<T>> Machines, ImmutableArray<FleetFailure> Failures, int Superseded, DateTimeOffset Now);
