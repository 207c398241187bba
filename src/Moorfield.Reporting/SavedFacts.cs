using System.Collections.Immutable;
using Moorfield.Core.Model;
using Moorfield.Formats.Appx;
using Moorfield.Formats.Hives;

namespace Moorfield.Reporting;

// What an inventory holds beside the facts for other programs, so that Moorfield can read it again like the target itself. docs/json.md says
// that only Moorfield should read it. All of it is untrusted when it is read: whatever cannot be what it should be is a FormatException.

/// <param name="Data">Base 64; null when there is no such value.</param>
internal sealed record PolicyValueJson(string Key, string Name, int Type, byte[]? Data);

internal sealed record PolicyHiveJson(string Hive, string? Sid, string Path, string? Trouble, ImmutableArray<PolicyValueJson> Values);

internal sealed record ProfileJson(string Sid, string? Path);

internal sealed record BlockTimeJson(string Family, DateTimeOffset? At);

internal sealed record UnseenJson(string Kind, string? Sid, string? Family);

/// <param name="Sid">Null for the machine's.</param>
internal sealed record OpenersJson(string? Sid, ImmutableArray<string> What);

internal sealed record ChosenJson(string? Sid, string What, string? Family);

internal sealed record SystemFactsJson(
    string EditionId, string MachineId, ImmutableArray<ProfileJson> Profiles, ImmutableArray<BlockTimeJson> BlockTimes,
    ImmutableArray<OpenersJson> Classic, ImmutableArray<ChosenJson> Chosen, ImmutableArray<PolicyHiveJson> Policies,
    ImmutableArray<UnseenJson>? Unseen = null, DateTimeOffset? AsOf = null);

/// <param name="At">Path of a hive, file, list or tree, or a full name.</param>
/// <param name="Key">Of the registry.</param>
/// <param name="Value">Name of a registry value, an entry's text, or the SID of rows.</param>
internal sealed record PlaceJson(string Type, string At, string? Key = null, string? Value = null);

internal sealed record TraceJson(string Scope, string? Sid, string Kind, PlaceJson Place);

internal sealed record PartFactsJson(string FullName, string Kind, long Bytes, int Withheld, ImmutableArray<TraceJson> Traces);

internal sealed record DataJson(string Sid, long Bytes, DateTimeOffset LastChange);

internal sealed record ExtensionJson(string Category, ImmutableArray<string> Values);

internal sealed record ManifestApplicationJson(string Id, string? DisplayName, string? Description, bool ShownInStart,
ImmutableArray<ExtensionJson> Extensions);

internal sealed record ManifestJson(
    string? DisplayName, string? PublisherDisplayName, string? Description, bool IsFramework, bool IsResourcePackage,
    ImmutableArray<string> MainPackages,
    ImmutableArray<ManifestApplicationJson> Applications, ImmutableArray<ExtensionJson> Extensions, ImmutableArray<string> Capabilities,
    ImmutableArray<string> HardwareCapabilities, ImmutableArray<string> Mentions);

internal sealed record PackageFactsJson(
    bool HasFiles, ImmutableArray<PartFactsJson> Parts, ImmutableArray<TraceJson> FamilyTraces, ImmutableArray<string> Needs,
    ImmutableArray<string> Wants,
    ImmutableArray<DataJson> Data, ManifestJson? Manifest);

/// <summary>Turns what only Moorfield needs of a snapshot into JSON, and back.</summary>
internal static class SavedFacts
{
    internal static SystemFactsJson Of(SystemSnapshot snapshot) => new(
        snapshot.EditionId,
        snapshot.MachineId,
        [.. snapshot.Accounts.Select(a => new ProfileJson(a.Sid, a.Profile?.ToString()))],
        [.. snapshot.BlockTimes.OrderBy(b => b.Key).Select(b => new BlockTimeJson(b.Key.ToString(), b.Value))],
        [
            new OpenersJson(null, Sorted(snapshot.Handlers.Classic)),
            .. snapshot.Handlers.AccountClassic.OrderBy(a => a.Key, StringComparer.Ordinal).Select(a => new OpenersJson(a.Key, Sorted(a.Value))),
        ],
        [.. snapshot.Handlers.Chosen.Select(c => new ChosenJson(c.Sid, c.What, c.Family?.ToString()))],
        [
            .. snapshot.PolicyHives.Select(h => new PolicyHiveJson(
                DisplayText.Of(h.Kind), h.Sid, h.Path.ToString(), h.Error,
                [.. h.Values.OrderBy(v => v.Key.Key, StringComparer.Ordinal).ThenBy(v => v.Key.Name, StringComparer.Ordinal)
                    .Select(v => new PolicyValueJson(v.Key.Key, v.Value?.Name ?? v.Key.Name, (int)(v.Value?.Type ?? HiveValueType.None),
                        v.Value?.Data.ToArray()))])),
        ],
        snapshot.ReadGaps.IsEmpty ? null : [.. snapshot.ReadGaps.Select(u => new UnseenJson(DisplayText.Of(u.Kind), u.Sid, u.Family?.ToString()))],
        snapshot.AsOf);

    /// <param name="mentions">What packages of the system offer: only mentions of these matter.</param>
    internal static PackageFactsJson Of(InstalledPackage package, IReadOnlySet<string> mentions) => new(
        package.HasFiles,
        [.. package.Parts.Select(p => new PartFactsJson(p.FullName.ToString(), DisplayText.Of(p.Kind), p.Bytes, p.Withheld,
            [.. p.Traces.Select(Of)]))],
        [.. package.FamilyTraces.Select(Of)],
        [.. package.Needs.Select(n => n.ToString())],
        [.. package.Wants.Select(n => n.ToString())],
        [.. package.Data.Select(d => new DataJson(d.Sid, d.Bytes, d.LastChange))],
        package.Manifest is { } manifest ? Of(manifest, mentions) : null);

    /// <summary>Everything that packages offer to others, in the ways that others name it.</summary>
    internal static IReadOnlySet<string> Offered(SystemSnapshot snapshot) => snapshot.Packages
        .SelectMany(p => (p.Manifest?.AllExtensions ?? []).SelectMany(e => e.Values).SelectMany(v => new[] { v, $"{{{v}}}" })
            .Concat((p.Manifest?.Applications ?? []).Select(a => $"{p.Family}!{a.Id}")))
        .ToHashSet(StringComparer.OrdinalIgnoreCase);

    private static ManifestJson Of(AppxManifest manifest, IReadOnlySet<string> mentions) => new(
        manifest.DisplayName, manifest.PublisherDisplayName, manifest.Description, manifest.IsFramework, manifest.IsResourcePackage,
        manifest.MainPackages,
        [.. manifest.Applications.Select(a => new ManifestApplicationJson(a.Id, a.DisplayName, a.Description, a.ShownInStart, Of(a.Extensions)))],
        Of(manifest.Extensions), manifest.Capabilities, manifest.HardwareCapabilities,
        [.. mentions.Where(manifest.Mentions.Contains).Order(StringComparer.Ordinal)]);

    private static ImmutableArray<ExtensionJson> Of(ImmutableArray<AppxExtension> extensions) =>
        [.. extensions.Select(e => new ExtensionJson(e.Category, e.Values))];

    private static TraceJson Of(Trace trace) => new(DisplayText.Of(trace.Scope), trace.Sid, DisplayText.Of(trace.Kind), Of(trace.Location));

    internal static PlaceJson Of(Location location) => location switch
    {
        KeyLocation key => new PlaceJson("key", key.Hive.ToString(), key.Key),
        ValueLocation value => new PlaceJson("value", value.Hive.ToString(), value.Key, value.Value),
        EntryLocation entry => new PlaceJson("entry", entry.File.ToString(), null, entry.Text),
        RowsLocation rows => new PlaceJson("rows", rows.FullName.ToString(), null, rows.Sid),
        _ => new PlaceJson("tree", ((TreeLocation)location).Path.ToString()),
    };

    private static ImmutableArray<string> Sorted(IEnumerable<string> texts) => [.. texts.Order(StringComparer.OrdinalIgnoreCase)];

    // ---- and back

    /// <summary>A snapshot with what was saved of it besides.</summary>
    /// <exception cref="FormatException">A fact cannot be what it should be.</exception>
    internal static SystemSnapshot AddTo(SystemSnapshot snapshot, SystemFactsJson facts) => snapshot with
    {
        EditionId = facts.EditionId,
        MachineId = facts.MachineId,
        Accounts = [.. snapshot.Accounts.Select(a =>
        a with { Profile = facts.Profiles.FirstOrDefault(p => p.Sid == a.Sid)?.Path is { } path ? Place(path) : null })],
        BlockTimes = facts.BlockTimes.ToImmutableDictionary(b => Family(b.Family), b => b.At),
        Handlers = new Handlers(
            Set(facts.Classic.Where(c => c.Sid is null)),
            facts.Classic.Where(c => c.Sid is not null).GroupBy(c => c.Sid!).ToImmutableDictionary(g => g.Key, Set),
            [.. facts.Chosen.Select(c => new ChosenHandler(c.Sid, c.What, c.Family is null ? null : Family(c.Family)))]),
        PolicyHives = [.. facts.Policies.Select(Policies)],
        ReadGaps = [.. (facts.Unseen ?? []).Select(u => new ReadGap(One<ReadGapKind>(u.Kind), u.Sid, u.Family is null ? null : Family(u.Family)))],
        AsOf = facts.AsOf,
    };

    private static ImmutableHashSet<string> Set(IEnumerable<OpenersJson> openers) =>
        openers.SelectMany(o => o.What).ToImmutableHashSet(StringComparer.OrdinalIgnoreCase);

    private static PolicyHive Policies(PolicyHiveJson hive) => new(
        One<GuardHive>(hive.Hive), hive.Sid, Place(hive.Path),
        hive.Values.ToImmutableDictionary(
            v => PolicyPlace.Of(v.Key, v.Name),
            v => v.Data is null ? null : new HiveValue(v.Name, (HiveValueType)v.Type, v.Data)),
        hive.Trouble);

    /// <summary>A package with what was saved of it besides.</summary>
    /// <exception cref="FormatException">A fact cannot be what it should be.</exception>
    internal static InstalledPackage AddTo(InstalledPackage package, PackageFactsJson facts) => package with
    {
        HasFiles = facts.HasFiles,
        Parts = [.. facts.Parts.Select(p =>
        new PackagePart(FullName(p.FullName), One<PartKind>(p.Kind), p.Bytes, [.. p.Traces.Select(Trace)], p.Withheld))],
        FamilyTraces = [.. facts.FamilyTraces.Select(Trace)],
        Needs = [.. facts.Needs.Select(FullName)],
        Wants = [.. facts.Wants.Select(FullName)],
        Data = [.. facts.Data.Select(d => new PersonalData(d.Sid, d.Bytes, d.LastChange))],
        Manifest = facts.Manifest is { } manifest ? Manifest(package.FullName, manifest) : null,
    };

    private static AppxManifest Manifest(PackageFullName fullName, ManifestJson saved) => new(
        new PackageIdentity(fullName.Name, "", fullName.Version, fullName.Architecture, fullName.ResourceId),
        saved.DisplayName, saved.PublisherDisplayName, saved.Description, saved.IsFramework, saved.IsResourcePackage, [], saved.MainPackages,
        [.. saved.Applications.Select(a => new AppxApplication(a.Id, a.DisplayName, a.Description, a.ShownInStart, Extensions(a.Extensions)))],
        Extensions(saved.Extensions), saved.Capabilities, saved.HardwareCapabilities, saved.Mentions.ToHashSet(StringComparer.OrdinalIgnoreCase));

    private static ImmutableArray<AppxExtension> Extensions(ImmutableArray<ExtensionJson> extensions) =>
        [.. extensions.Select(e => new AppxExtension(e.Category, e.Values))];

    private static Trace Trace(TraceJson trace) => new(One<TraceScope>(trace.Scope), trace.Sid, One<TraceKind>(trace.Kind), Location(trace.Place));

    internal static Location Location(PlaceJson place) => place.Type switch
    {
        "key" => new KeyLocation(Place(place.At), place.Key ?? throw new FormatException()),
        "value" => new ValueLocation(Place(place.At), place.Key ?? throw new FormatException(), place.Value ?? throw new FormatException()),
        "entry" => new EntryLocation(Place(place.At), place.Value ?? throw new FormatException()),
        "rows" => new RowsLocation(FullName(place.At), place.Value),
        "tree" => new TreeLocation(Place(place.At)),
        _ => throw new FormatException(),
    };

    internal static T One<T>(string text) where T : struct, Enum =>
        Enum.TryParse<T>(text, ignoreCase: true, out var value) && Enum.IsDefined(value) ? value : throw new FormatException();

    internal static PackageFamilyName Family(string text) => PackageFamilyName.TryParse(text, out var family) ? family : throw new FormatException();

    internal static PackageFullName FullName(string text) =>
    PackageFullName.TryParse(text, out var fullName) ? fullName : throw new FormatException();

    private static WindowsPath Place(string text) => WindowsPath.Parse(text) ?? throw new FormatException();
}
