using Moorfield.Core.Assessment;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Core.Trees;

namespace Moorfield.Core.Fleets;

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
}

/// <summary>A folder with surveys and saved inventories, as one target.</summary>
public sealed class FleetFolder
{
    private const int HeadBytes = 512;

    private static readonly string[] OtherTargets = ["Windows", "sources"];
    private static readonly string[] Schemas = ["\"moorfield.survey/", "\"moorfield.saved-inventory/"];

    private FleetFolder(string path, ImmutableArray<string> files, int others) => (FullPath, Files, Others) = (path, files, others);

    /// <summary>The folder.</summary>
    public string FullPath { get; }

    /// <summary>Its last name.</summary>
    public string Name => Path.GetFileName(Path.TrimEndingDirectorySeparator(FullPath));

    /// <summary>The documents in it, by name.</summary>
    public ImmutableArray<string> Files { get; }

    /// <summary>The number of <c>.json</c> files in it that are something else.</summary>
    public int Others { get; }

    /// <summary>Opens a folder; null when there is no such folder, it holds a system or a medium, or there is neither a survey nor a saved
    /// inventory in it.</summary>
    public static FleetFolder? TryOpen(string path)
    {
        if (!Directory.Exists(path) || OtherTargets.Any(t => Directory.EnumerateDirectories(path, t, AnyCase).Any()))
            return null;
        var named = Directory.EnumerateFiles(path).Where(f => Path.GetExtension(f).ToUpperInvariant() is ".JSON" or ".SAVED")
            .Order(StringComparer.Ordinal).ToList();
        ImmutableArray<string> files = [.. named.AsParallel().AsOrdered().Where(IsDocument)];
        return files.IsEmpty ? null : new FleetFolder(Path.GetFullPath(path), files, named.Count - files.Length);
    }

    private static EnumerationOptions AnyCase => new() { MatchCasing = MatchCasing.CaseInsensitive };

    /// <summary>True if a file begins like a survey, or like a saved inventory that is not compressed or is named as one.</summary>
    private static bool IsDocument(string path)
    {
        if (Path.GetExtension(path).Equals(".saved", StringComparison.OrdinalIgnoreCase))
            return true;
        try
        {
            using var file = RegularFile.OpenRead(path);
            if (file is null)
                return false;
            byte[] head = new byte[HeadBytes];
            // In UTF-16 every other byte is zero.
            string text = Encoding.Latin1.GetString(head, 0, RandomAccess.Read(file.SafeFileHandle, head, 0))
                .Replace("\0", "", StringComparison.Ordinal);
            return Schemas.Any(s => text.Contains(s, StringComparison.Ordinal));
        }
        catch (Exception e) when (e is MoorfieldException or IOException or UnauthorizedAccessException)
        {
            return true; // read in full, it says why it cannot be
        }
    }

    /// <summary>Reads all machines. A document that cannot be read is among the failures; nothing else of it counts.</summary>
    /// <param name="fits">True for packages that are wanted.</param>
    /// <param name="withReasons">True if the reasons against removing them are wanted too.</param>
    public FleetReading Read(OpenOptions options, Func<InstalledPackage, RemovalAssessment, bool> fits, bool withReasons = false)
    {
        var items = new FleetItems();
        options = options with { Parsed = new ParsedContents() };
        var read = Files.AsParallel().AsOrdered().Select(file => Read(file, options, fits, withReasons, items)).ToList();
        var machines = read.SelectMany(r => r.Machines).ToList();
        var now = DateTimeOffset.UtcNow;
        var newest = machines.GroupBy(m => m.Key).Select(g => g.MaxBy(m => FleetReading.Dated(m.Made, now))!).ToList();
        return new FleetReading(
            [.. newest.OrderBy(m => m.Name, StringComparer.OrdinalIgnoreCase).ThenBy(m => m.Source, StringComparer.Ordinal)],
            [.. read.Select(r => r.Failure).OfType<FleetFailure>()], machines.Count - newest.Count, now);
    }

    private static (IEnumerable<FleetMachine> Machines, FleetFailure? Failure) Read(
        string file, OpenOptions options, Func<InstalledPackage, RemovalAssessment, bool> fits, bool withReasons, FleetItems items)
    {
        try
        {
            using var target = Target.Open(file, new WriteInterceptor(), options);
            return ([.. target.Read(target.SelectEditions([])).Select(system => FleetMachine.Of(target, system, fits, withReasons, items))],
                null);
        }
        catch (MoorfieldException e)
        {
            return ([], new FleetFailure(file, e.Message));
        }
    }
}
