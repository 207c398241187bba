using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Core.Trees;

namespace Moorfield.Core.Fleets;

/// <summary>A folder with surveys and saved inventories, as one target.</summary>
public sealed class FleetFolder : IFleet
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

    /// <summary>This machine's time.</summary>
    public DateTimeOffset Now => DateTimeOffset.UtcNow;

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
    internal static bool IsDocument(string path)
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

    /// <inheritdoc/>
    public string Description => $"a folder of {TextFormat.Count(Files.Length, "document")}";

    /// <inheritdoc/>
    public FleetReading Read(OpenOptions options, Func<FleetItem, bool>? fits = null)
    {
        var items = new FleetItems();
        var read = Read(options, [], (target, system) => FleetMachine.Of(target, system, items));
        var reading = new FleetReading([.. read.Machines.Select(m => m.Taken)], read.Failures, read.Superseded, read.Now);
        return fits is null ? reading : reading.Only(fits);
    }

    /// <inheritdoc/>
    public FleetReading ReadNames(OpenOptions options, Func<FleetItem, bool> fits) => Read(options, fits);

    public FleetReading? ReadStates() => null;

    /// <inheritdoc/>
    public IReadOnlySet<string>? SourcesOf(Func<MachineFacts, bool> fits) => null;

    /// <inheritdoc/>
    public FleetContents<T> Read<T>(
        OpenOptions options, IReadOnlyCollection<Guard> guards, Func<Target, SystemSnapshot, T> take, IReadOnlySet<string>? only = null)
    {
        options = options with { Parsed = new ParsedContents() };
        var read = Files.Where(f => only?.Contains(f) != false).AsParallel().AsOrdered().Select(file => Read(file, options, guards, take)).ToList();
        var machines = read.SelectMany(r => r.Machines).ToList();
        var now = Now;
        var newest = machines.GroupBy(m => m.Key).Select(g => g.MaxBy(m => FleetReading.Dated(m.Made, now))!).ToList();
        return new FleetContents<T>(
            [.. newest.OrderBy(m => m.Name, StringComparer.OrdinalIgnoreCase).ThenBy(m => m.Source, StringComparer.Ordinal)],
            [.. read.Select(r => r.Failure).OfType<FleetFailure>()], machines.Count - newest.Count, now);
    }

    /// <inheritdoc/>
    public void Dispose()
    {
    }

    private static (IEnumerable<FleetContent<T>> Machines, FleetFailure? Failure) Read<T>(
        string file, OpenOptions options, IReadOnlyCollection<Guard> guards, Func<Target, SystemSnapshot, T> take)
    {
        try
        {
            using var target = Target.Open(file, new WriteInterceptor(), options);
            return ([.. target.Read(target.SelectEditions([]), guards).Select(system => new FleetContent<T>(
                target.FullPath, FleetMachine.NameOf(target, system), system.MachineId, system.FirmwareId,
                system.AsOf, take(target, system)))], null);
        }
        catch (MoorfieldException e)
        {
            return ([], new FleetFailure(file, e.Message));
        }
    }
}
