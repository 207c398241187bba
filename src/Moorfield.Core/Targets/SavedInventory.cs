using System.IO.Compression;
using System.Text.Json;
using Moorfield.Core.Reading;
using Moorfield.Core.Storage;

namespace Moorfield.Core.Targets;

/// <summary>Writes and reads saved inventories: JSON, compressed by gzip.</summary>
public static class SavedInventory
{
    private const long MaxBytes = 256L << 20;

    /// <summary>The content of a file that holds systems as they are.</summary>
    /// <param name="systems">Read with the guards that the file is to know.</param>
    public static byte[] Write(Target target, ImmutableArray<SystemSnapshot> systems)
    {
        var document = new SavedDocument(SavedDocument.KnownSchema, target.FullPath, target.Kind, [.. systems.Select(Of)]);
        using var content = new MemoryStream();
        using (var packed = new GZipStream(content, CompressionLevel.Optimal))
            JsonSerializer.Serialize(packed, document, SavedJson.Default.SavedDocument);
        return content.ToArray();
    }

    /// <summary>Opens a saved inventory; null when the file is neither compressed nor JSON, and so something else.</summary>
    /// <exception cref="MoorfieldException">It is either, but no inventory that was saved (misused).</exception>
    public static SavedTarget? TryOpen(string path)
    {
        using var file = RegularFile.OpenRead(path);
        return file is null ? null : TryOpen(path, file);
    }

    /// <summary>The same of a content that was read before.</summary>
    internal static SavedTarget? TryOpen(string path, Stream file)
    {
        if (!(IsPacked(file) is var packed && (packed || IsJson(file))))
            return null;
        try
        {
            file.Position = 0;
            byte[] content = ReadAll(path, file, packed);
            if (content.AsSpan().StartsWith(Encoding.UTF8.Preamble))
                content = content[Encoding.UTF8.Preamble.Length..];
            string? schema = ReceivedJson.Schema(content);
            if (schema?.StartsWith("moorfield.inventory/", StringComparison.Ordinal) == true)
            {
                throw new MoorfieldException(ErrorKind.InvalidUsage, $"{path} is an inventory for other programs, which does not hold all that a "
                    + "target has. Save one with 'moorfield inventory TARGET --format saved --to FILE'.");
            }
            if (schema is not null && schema != SavedDocument.KnownSchema)
            {
                throw new MoorfieldException(ErrorKind.InvalidUsage,
                    $"{path} is not a saved inventory that this version reads: its schema is '{schema}', not '{SavedDocument.KnownSchema}'.");
            }
            if (SavedJson.Read(content) is not { Systems.IsDefaultOrEmpty: false } inventory)
                throw new JsonException("It holds no systems.");
            return new SavedTarget(path, inventory.Kind, [.. inventory.Systems.Select(System)]);
        }
        catch (Exception e) when (e is JsonException or FormatException or InvalidOperationException or ArgumentException or EndOfStreamException
            or InvalidDataException)
        {
            throw new MoorfieldException(ErrorKind.InvalidUsage,
                $"{path} is {(packed ? "compressed" : "JSON")}, but not an inventory saved by 'moorfield inventory --format saved'.", e);
        }
    }

    private static byte[] ReadAll(string path, Stream file, bool packed)
    {
        using var content = new MemoryStream();
        using Stream source = packed ? new GZipStream(file, CompressionMode.Decompress, leaveOpen: true) : new BufferedStream(file);
        byte[] buffer = new byte[1 << 16];
        while (source.Read(buffer) is > 0 and int got)
        {
            if (content.Length + got > MaxBytes)
                throw new MoorfieldException(ErrorKind.InvalidUsage, $"{path} is longer than any inventory.");
            content.Write(buffer, 0, got);
        }
        return content.ToArray();
    }

    private static bool IsPacked(Stream file)
    {
        bool packed = file.ReadByte() == 0x1F && file.ReadByte() == 0x8B;
        file.Position = 0;
        return packed;
    }

    private static bool IsJson(Stream file)
    {
        for (int i = 0; i < 64; i++)
        {
            int next = file.ReadByte();
            if (next is not (' ' or '\t' or '\r' or '\n' or 0xEF or 0xBB or 0xBF))
                return next == '{';
        }
        return false;
    }

    // ---- to the document

    private static SavedSystem Of(SystemSnapshot system)
    {
        var mentions = Offered(system);
        return new SavedSystem(
            system.EditionNumber, system.Name, system.Product, system.EditionId, system.Release, system.Build, system.Computer, system.Manufacturer,
            system.MachineId, [.. system.Accounts.Select(a => new SavedAccount(a.Name, a.Sid, a.Profile?.ToString()))],
            [.. system.Packages.Select(p => Of(p, mentions))],
            [.. system.Blocks.Select(b => new SavedBlock(b.ToString(), system.BlockTimes.GetValueOrDefault(b)))],
            [.. system.Notes.Select(n => new SavedNote(n.Code, n.Text, n.Package?.ToString()))],
            [.. system.Leftovers.Select(l => new SavedLeftover(
                l.Kind.ToString(), l.Family?.ToString(), l.FullName?.ToString(), l.Sid, l.Bytes, Of(l.Location), l.Program))],
            [.. system.DesktopPrograms.Select(p => new SavedProgram(p.Name, p.Version, p.Publisher, p.Bytes, p.UninstallCommand, p.Sid, p.Key,
                p.QuietCommand, p.Folder?.ToString(), p.IsInstallerProduct, p.Newcomers, p.Starts.IsEmpty ? null : [.. p.Starts.Select(s =>
                    new SavedStart(s.Kind.ToString(), s.Name, s.Command, s.Program?.ToString(), s.Scope.ToString(), s.Sid, s.IsOff,
                        s.StartsWithWindows, s.Principal, Of(s.Location)))]))],
            [new SavedOpeners(null, Sorted(system.Handlers.Classic)), .. system.Handlers.AccountClassic
                .OrderBy(a => a.Key, StringComparer.Ordinal).Select(a => new SavedOpeners(a.Key, Sorted(a.Value)))],
            [.. system.Handlers.Chosen.Select(c => new SavedChoice(c.Sid, c.What, c.Family?.ToString()))],
            [.. system.PolicyHives.Select(h => new SavedPolicyHive(h.Kind.ToString(), h.Sid, h.Path.ToString(), h.Error,
                [.. h.Values.OrderBy(v => v.Key.Key, StringComparer.Ordinal).ThenBy(v => v.Key.Name, StringComparer.Ordinal)
                    .Select(v => new SavedPolicyValue(v.Key.Key, v.Value?.Name ?? v.Key.Name, (int)(v.Value?.Type ?? HiveValueType.None),
                        v.Value?.Data.ToArray()))]))],
            [.. system.ReadGaps.Select(g => new SavedGap(g.Kind.ToString(), g.Sid, g.Family?.ToString()))], system.AsOf,
            [.. system.StartBlocks.Select(b => new SavedStartBlock(b.Kind.ToString(), b.Name, Of(b.Location)))], system.HandOvers,
            system.FirmwareId.Length == 0 ? null : system.FirmwareId, system.Site.Length == 0 ? null : system.Site);
    }

    /// <param name="mentions">The names that packages of the system offer: only mentions of these matter.</param>
    private static SavedPackage Of(InstalledPackage package, HashSet<string> mentions) => new(
        package.FullName.ToString(), package.DisplayName, package.RawDisplayName, package.NeutralName, package.NameSource.ToString(),
        package.Publisher, package.Role.ToString(), package.Origin.ToString(), package.Bytes, package.Accounts, package.Newcomers, package.Blocked,
        package.HasFiles,
        [.. package.Parts.Select(p => new SavedPart(p.FullName.ToString(), p.Kind.ToString(), p.Bytes, p.Withheld, [.. p.Traces.Select(Of)]))],
        [.. package.FamilyTraces.Select(Of)], [.. package.Needs.Select(n => n.ToString())], [.. package.Wants.Select(n => n.ToString())],
        [.. package.Data.Select(d => new SavedData(d.Sid, d.Bytes, d.LastChange))],
        package.Manifest is { } manifest ? Of(manifest, mentions) : null);

    /// <summary>Everything that packages offer to others, in the ways that others name it.</summary>
    private static HashSet<string> Offered(SystemSnapshot system) => system.Packages
        .SelectMany(p => (p.Manifest?.AllExtensions ?? []).SelectMany(e => e.Values).SelectMany(v => new[] { v, $"{{{v}}}" })
            .Concat((p.Manifest?.Applications ?? []).Select(a => $"{p.Family}!{a.Id}")))
        .ToHashSet(StringComparer.OrdinalIgnoreCase);

    private static SavedManifest Of(AppxManifest manifest, HashSet<string> mentions) => new(
        manifest.DisplayName, manifest.PublisherDisplayName, manifest.Description, manifest.IsFramework, manifest.IsResourcePackage,
        manifest.MainPackages,
        [.. manifest.Applications.Select(a => new SavedApplication(a.Id, a.DisplayName, a.Description, a.ShownInStart, Of(a.Extensions)))],
        Of(manifest.Extensions), manifest.Capabilities, manifest.HardwareCapabilities,
        [.. mentions.Where(manifest.Mentions.Contains).Order(StringComparer.Ordinal)]);

    private static ImmutableArray<SavedExtension> Of(ImmutableArray<AppxExtension> extensions) =>
        [.. extensions.Select(e => new SavedExtension(e.Category, e.Values))];

    private static SavedTrace Of(Trace trace) => new(trace.Scope.ToString(), trace.Sid, trace.Kind.ToString(), Of(trace.Location));

    private static SavedPlace Of(Location location) => location switch
    {
        KeyLocation key => new SavedPlace("key", key.Hive.ToString(), key.Key),
        ValueLocation value => new SavedPlace("value", value.Hive.ToString(), value.Key, value.Value),
        EntryLocation entry => new SavedPlace("entry", entry.File.ToString(), null, entry.Text),
        RowsLocation rows => new SavedPlace("rows", rows.FullName.ToString(), null, rows.Sid),
        _ => new SavedPlace("tree", ((TreeLocation)location).Path.ToString()),
    };

    private static ImmutableArray<string> Sorted(IEnumerable<string> texts) => [.. texts.Order(StringComparer.OrdinalIgnoreCase)];

    // ---- and back

    private static SystemSnapshot System(SavedSystem saved) => new(
        saved.Product, saved.EditionId, saved.Release, saved.Build, saved.Computer, saved.Manufacturer, saved.MachineId,
        [.. saved.Accounts.Select(a => new Account(a.Name, a.Sid, a.Profile is { } profile ? Path(profile) : null))],
        [.. saved.Packages.Select(Package)], [.. saved.Blocks.Select(b => Family(b.Family))],
        [.. saved.Notes.Select(n => new SnapshotNote(n.Code, n.Text, n.Package is null ? null : FullName(n.Package)))])
    {
        EditionNumber = saved.Edition,
        Name = saved.Name,
        BlockTimes = saved.Blocks.ToImmutableDictionary(b => Family(b.Family), b => b.At),
        Leftovers = [.. saved.Leftovers.Select(l => new Leftover(One<LeftoverKind>(l.Kind), l.Family is null ? null : Family(l.Family),
            l.FullName is null ? null : FullName(l.FullName), l.Sid, l.Bytes, Location(l.Place), l.Program))],
        DesktopPrograms = [.. saved.Programs.Select(p => new DesktopProgram(
            p.Name, p.Version, p.Publisher, p.Bytes, p.UninstallCommand, p.Sid)
        {
            Key = p.Key,
            QuietCommand = p.QuietCommand,
            Folder = p.Folder is null ? null : Path(p.Folder),
            IsInstallerProduct = p.IsInstallerProduct,
            Newcomers = p.Newcomers,
            Starts = [.. (p.Starts ?? []).Select(s => new StartEntry(One<StartKind>(s.Kind), s.Name, s.Command,
                s.Program is null ? null : Path(s.Program), One<TraceScope>(s.Scope), s.Sid, s.IsOff, Start(s.Place))
            { StartsWithWindows = s.StartsWithWindows, Principal = s.Principal })],
        })],
        Handlers = new Handlers(
            Set(saved.Classic.Where(c => c.Sid is null)),
            saved.Classic.Where(c => c.Sid is not null).GroupBy(c => c.Sid!).ToImmutableDictionary(g => g.Key, Set),
            [.. saved.Chosen.Select(c => new ChosenHandler(c.Sid, c.What, c.Family is null ? null : Family(c.Family)))]),
        PolicyHives = [.. saved.Policies.Select(h => new PolicyHive(One<GuardHive>(h.Hive), h.Sid, Path(h.Path), h.Values.ToImmutableDictionary(
            v => PolicyPlace.Of(v.Key, v.Name), v => v.Data is null ? null : new HiveValue(v.Name, (HiveValueType)v.Type, v.Data)), h.Error))],
        ReadGaps = [.. saved.Gaps.Select(g => new ReadGap(One<ReadGapKind>(g.Kind), g.Sid, g.Family is null ? null : Family(g.Family)))],
        AsOf = saved.AsOf,
        HandOvers = saved.HandOvers ?? [],
        FirmwareId = saved.FirmwareId ?? "",
        Site = saved.Site ?? "",
        StartBlocks = [.. (saved.StartBlocks ?? []).Select(b => new StartBlock(One<StartKind>(b.Kind), b.Name,
            Location(b.Place) as ValueLocation ?? throw new FormatException()))],
    };

    private static ImmutableHashSet<string> Set(IEnumerable<SavedOpeners> openers) =>
        openers.SelectMany(o => o.What).ToImmutableHashSet(StringComparer.OrdinalIgnoreCase);

    private static InstalledPackage Package(SavedPackage saved)
    {
        var fullName = FullName(saved.FullName);
        return new InstalledPackage(
            fullName, saved.DisplayName, saved.RawDisplayName, saved.Publisher, One<PackageRole>(saved.Role), One<PackageOrigin>(saved.Origin),
            saved.Bytes, saved.Accounts, saved.Newcomers, saved.Blocked, [.. saved.Needs.Select(FullName)],
            [.. saved.Parts.Select(p => new PackagePart(FullName(p.FullName), One<PartKind>(p.Kind), p.Bytes, [.. p.Traces.Select(Trace)],
                p.Withheld))],
            [.. saved.FamilyTraces.Select(Trace)], saved.Manifest is { } manifest ? Manifest(fullName, manifest) : null)
        {
            NameSource = One<NameSource>(saved.NameSource),
            NeutralName = saved.NeutralName,
            HasFiles = saved.HasFiles,
            Wants = [.. saved.Wants.Select(FullName)],
            Data = [.. saved.Data.Select(d => new PersonalData(d.Sid, d.Bytes, d.LastChange))],
        };
    }

    private static AppxManifest Manifest(PackageFullName fullName, SavedManifest saved) => new(
        new PackageIdentity(fullName.Name, "", fullName.Version, fullName.Architecture, fullName.ResourceId),
        saved.DisplayName, saved.PublisherDisplayName, saved.Description, saved.IsFramework, saved.IsResourcePackage, [], saved.MainPackages,
        [.. saved.Applications.Select(a => new AppxApplication(a.Id, a.DisplayName, a.Description, a.ShownInStart, Extensions(a.Extensions)))],
        Extensions(saved.Extensions), saved.Capabilities, saved.HardwareCapabilities, saved.Mentions.ToHashSet(StringComparer.OrdinalIgnoreCase));

    private static ImmutableArray<AppxExtension> Extensions(ImmutableArray<SavedExtension> extensions) =>
        [.. extensions.Select(e => new AppxExtension(e.Category, e.Values))];

    private static Trace Trace(SavedTrace trace) => new(One<TraceScope>(trace.Scope), trace.Sid, One<TraceKind>(trace.Kind), Location(trace.Place));

    private static Location Location(SavedPlace place) => place.Type switch
    {
        "key" => new KeyLocation(Path(place.At), place.Key ?? throw new FormatException()),
        "value" => new ValueLocation(Path(place.At), place.Key ?? throw new FormatException(), place.Value ?? throw new FormatException()),
        "entry" => new EntryLocation(Path(place.At), place.Value ?? throw new FormatException()),
        "rows" => new RowsLocation(FullName(place.At), place.Value),
        "tree" => new TreeLocation(Path(place.At)),
        _ => throw new FormatException(),
    };

    /// <summary>The place of a start entry: a key, a value or a file.</summary>
    private static Location Start(SavedPlace place) =>
        Location(place) is var location and (KeyLocation or ValueLocation or TreeLocation) ? location : throw new FormatException();

    private static T One<T>(string text) where T : struct, Enum =>
        Enum.TryParse<T>(text, out var value) && Enum.IsDefined(value) && !char.IsAsciiDigit(text[0]) ? value : throw new FormatException();

    private static PackageFamilyName Family(string text) => PackageFamilyName.TryParse(text, out var family) ? family : throw new FormatException();

    private static PackageFullName FullName(string text) =>
        PackageFullName.TryParse(text, out var fullName) ? fullName : throw new FormatException();

    private static WindowsPath Path(string text) => WindowsPath.Parse(text) ?? throw new FormatException();
}
