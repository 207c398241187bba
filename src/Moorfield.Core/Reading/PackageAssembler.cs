using Moorfield.Core.Layout;
using Moorfield.Core.Trees;
using Moorfield.Formats.Resources;

namespace Moorfield.Core.Reading;

/// <summary>Puts together what each source says of the packages, and notes where they disagree.</summary>
/// <param name="rows">Traces in the state repository; null when it could not be read.</param>
/// <param name="languages">In which names are wanted, the best first.</param>
internal sealed class PackageAssembler(
    WindowsTree tree, MachineRegistry machine, ImmutableArray<AccountRegistry> accounts, PackageFiles files, ILookup<PackageFullName, Trace>? rows,
    ImmutableArray<string> languages, SnapshotNotes notes, bool isSurvey)
{
    private readonly PackageTexts _texts = new(files.Index, files.AppNames, languages, notes);

    private readonly HashSet<string> _withClasses = [.. accounts.Where(a => a.HasClasses).Select(a => a.Account.Sid)];

    /// <summary>One full name with its manifest, before it is known what it belongs to.</summary>
    private sealed record FoundPackage(PackageFullName FullName, AppxManifest? Manifest, ImmutableArray<Trace> Traces)
    {
        /// <summary>Without a manifest, the resource id that bundles give their resource packages tells. [seen]</summary>
        internal bool IsResource => Manifest?.IsResourcePackage ?? FullName.ResourceId.StartsWith("split.", StringComparison.OrdinalIgnoreCase);
    }

    internal ImmutableArray<InstalledPackage> Assemble()
    {
        var found = FullNames().Select(Find).ToDictionary(f => f.FullName);
        var groups = Group(found);
        var systemPublishers = found.Values.Where(f => f.Traces.Any(t => t.Kind == TraceKind.Inbox)).Select(f => f.FullName.Family.Publisher)
            .ToHashSet(StringComparer.OrdinalIgnoreCase);
        var packages = groups.Select(g => Package(g.Main, g.Parts, systemPublishers)).ToList();
        // What a survey could not look into it says itself.
        if (!isSurvey && packages.Where(p => p.Withheld > 0).ToList() is { Count: > 0 } withheld)
        {
            notes.Add("contentWithheld",
                $"{withheld.Sum(p => p.Withheld):N0} files of {TextFormat.List(withheld.Select(p => p.DisplayName), 3)} hold more than this mount "
                    + "tells, as files do that Windows compresses: sizes are at least what is shown, and undo could not bring these files back.");
        }
        return [.. FrameworkOrigins([.. Dependencies.Resolve(packages, machine.Frameworks, notes)])
            .OrderBy(p => p.DisplayName, StringComparer.OrdinalIgnoreCase).ThenBy(p => p.FullName)];
    }

    private IEnumerable<PackageFullName> FullNames() =>
        machine.Traces.Select(g => g.Key)
            .Concat(accounts.SelectMany(a => a.Registrations.Select(g => g.Key)))
            .Concat(rows?.Select(g => g.Key) ?? [])
            .Concat(files.FullNames)
            .Distinct()
            .Order();

    private FoundPackage Find(PackageFullName fullName) => new(
        fullName, fullName.IsBundle ? null : files.Manifest(fullName),
        [.. machine.Traces[fullName], .. accounts.SelectMany(a => a.Registrations[fullName]), .. rows?[fullName] ?? [], .. files.Traces(fullName)]);

    /// <summary>Main packages with what belongs to them: a bundle's members, then resource packages of the same family.</summary>
    private IEnumerable<(FoundPackage Main, List<FoundPackage> Parts)> Group(Dictionary<PackageFullName, FoundPackage> found)
    {
        var groups = new Dictionary<PackageFullName, (FoundPackage Main, List<FoundPackage> Parts)>();
        var taken = new HashSet<PackageFullName>();
        foreach (var bundle in found.Values.Where(f => f.FullName.IsBundle).OrderByDescending(f => f.FullName.Version))
        {
            var members = files.Bundle(bundle.FullName) is { } manifest
                ? manifest.Members.Select(m => m.FullName).Where(found.ContainsKey).Select(m => found[m])
                    .Where(m => !taken.Contains(m.FullName)).ToList()
                : found.Values.Where(f => f.FullName.Family == bundle.FullName.Family && !f.FullName.IsBundle && !taken.Contains(f.FullName))
                    .ToList();
            var main = members.Where(m => !m.IsResource).OrderByDescending(m => m.FullName.Architecture == "x64").FirstOrDefault() ?? bundle;
            List<FoundPackage> parts = [bundle, .. members];
            groups.Add(main.FullName, (main, parts));
            taken.UnionWith(parts.Select(p => p.FullName));
        }
        foreach (var main in found.Values.Where(f => !f.FullName.IsBundle && !f.IsResource && !taken.Contains(f.FullName)))
        {
            groups.Add(main.FullName, (main, [main]));
            taken.Add(main.FullName);
        }
        foreach (var resource in found.Values.Where(f => !taken.Contains(f.FullName)))
        {
            var home = groups.Values.Where(g => g.Main.FullName.Family == resource.FullName.Family)
                .OrderByDescending(g => g.Main.FullName.Version == resource.FullName.Version)
                    .ThenByDescending(g => g.Main.FullName.Version).FirstOrDefault();
            if (home.Parts is null)
                groups.Add(resource.FullName, (resource, [resource]));
            else
                home.Parts.Add(resource);
        }
        return groups.Values;
    }

    private InstalledPackage Package(FoundPackage main, List<FoundPackage> found, HashSet<string> systemPublishers)
    {
        ImmutableArray<PackagePart> parts = [.. found.Select(f =>
        {
            var size = files.Folder(f.FullName) is { } folder && files.Elsewhere(f.FullName) is null ? tree.Measure(folder) : default;
            var kind = f.FullName.IsBundle ? PartKind.Bundle : f.IsResource && f != main ? PartKind.Resource : PartKind.Main;
            return new PackagePart(f.FullName, kind, size.Bytes, f.Traces, size.Withheld);
        })];
        var traces = parts.SelectMany(p => p.Traces).ToList();
        var having = traces.Where(t => t.Scope == TraceScope.Account).Select(t => t.Sid!).ToHashSet(StringComparer.Ordinal);
        ImmutableArray<string> sids = [.. accounts.Select(a => a.Account.Sid).Where(having.Contains)];
        bool newcomers = traces.Exists(t => t.Scope == TraceScope.Newcomers);
        bool isComponent = traces.Exists(t => t.Kind is TraceKind.Inbox or TraceKind.SystemFolder);
        string? raw = main.Manifest?.DisplayName;
        var texts = main.Manifest is null ? null : _texts.Resolve(main.FullName, main.Manifest, found.Select(f => f.FullName));
        var manifest = texts?.Manifest;
        string publisher = manifest?.PublisherDisplayName is { } shown && !ResourceResolver.IsReference(shown) ? shown
            : CommonName(manifest?.Identity.Publisher) ?? main.FullName.Family.Publisher;
        string guess = ReadableName(main.FullName.Name);
        bool isNamed = manifest?.DisplayName is { } name && !ResourceResolver.IsReference(name);
        var role = Role(main, isComponent);
        var package = new InstalledPackage(
            main.FullName, isNamed ? manifest!.DisplayName! : guess, raw, publisher, role,
            Origin(main, publisher, isComponent, newcomers || sids.IsEmpty || role == PackageRole.Framework, systemPublishers),
            parts.Sum(p => p.Bytes), sids, newcomers, machine.Blocks.ContainsKey(main.FullName.Family), [], parts,
            [.. accounts.SelectMany(a => a.FamilyTraces[main.FullName.Family])], manifest)
        {
            NameSource = !isNamed ? NameSource.Name : ResourceResolver.IsReference(raw) ? NameSource.Resources : NameSource.Manifest,
            NeutralName = texts?.Neutral ?? guess,
            Elsewhere = files.Elsewhere(main.FullName),
            HasFiles = parts.Any(p => files.Folder(p.FullName) is not null),
            Data = [.. accounts.Select(a => a.Data.GetValueOrDefault(main.FullName.Family)).OfType<PersonalData>()],
        };
        NoteDisagreements(package);
        return package;
    }

    /// <summary>A framework comes with what needs it: it is provisioned by someone else only if something that needs it is provisioned.</summary>
    private static IEnumerable<InstalledPackage> FrameworkOrigins(ImmutableArray<InstalledPackage> packages)
    {
        var provisioned = packages.Where(p => p.Newcomers).SelectMany(p => p.Needs).ToHashSet();
        return packages.Select(p => p is { Role: PackageRole.Framework, Origin: PackageOrigin.Extra, Newcomers: false }
            && !provisioned.Contains(p.FullName) ? p with { Origin = PackageOrigin.Added } : p);
    }

    private static PackageRole Role(FoundPackage main, bool isComponent) =>
        isComponent ? PackageRole.Component
        : main.Manifest?.IsFramework == true ? PackageRole.Framework
        : main.IsResource ? PackageRole.Resource
        : main.Manifest?.IsOptional == true ? PackageRole.Addon
        : PackageRole.Application;

    private PackageOrigin Origin(FoundPackage main, string publisher, bool isComponent, bool provisioned, HashSet<string> systemPublishers) =>
        isComponent ? PackageOrigin.System
        : provisioned && systemPublishers.Contains(main.FullName.Family.Publisher) ? PackageOrigin.Shipped
        : Maker.Is(machine.Manufacturer, publisher) || Maker.Is(machine.Manufacturer, CommonName(main.Manifest?.Identity.Publisher) ?? "")
            ? PackageOrigin.Maker
        : provisioned ? PackageOrigin.Extra : PackageOrigin.Added;

    private void NoteDisagreements(InstalledPackage package)
    {
        bool hasFiles = package.HasFiles;
        string name = package.FullName.ToString();
        if (!hasFiles && package.Newcomers)
            notes.Add("provisionedWithoutFiles", $"{name} is provisioned, but its folder is gone: new accounts will not get it.", package.FullName);
        if (!hasFiles && !package.Accounts.IsEmpty)
            notes.Add("registrationWithoutFiles", $"{name} is registered for {Names(package.Accounts)}, but its folder is gone.", package.FullName);
        if (hasFiles && !package.IsHeld && package.Role is not PackageRole.Framework and not PackageRole.Component)
            notes.Add("filesWithoutRegistration", $"{name} has files, but no account has it and new ones do not get it.", package.FullName);
        if (package.Elsewhere is { } folder)
            notes.Add("folderElsewhere", $"{name} lies in {folder}, not among the packages: nothing there is changed.", package.FullName);
        var places = package.Parts.SelectMany(p => p.Traces).Where(t => t.Kind == TraceKind.Registration).ToLookup(t => t.Sid, t => t.Location);
        foreach (string sid in package.Accounts)
        {
            var registrations = places[sid];
            List<string> missing = [];
            // A framework is there in the entries of the packages that need it, and goes with the last of them.
            if (package.Role != PackageRole.Framework && !registrations.OfType<KeyLocation>().Any(k => k.Hive == Places.Software))
                missing.Add("the machine's registry");
            if (_withClasses.Contains(sid) && !registrations.OfType<KeyLocation>().Any(k => k.Hive != Places.Software))
                missing.Add("the account's own registry");
            if (rows is not null && registrations.OfType<RowsLocation>().FirstOrDefault() is null)
                missing.Add(isSurvey ? "what the system lists" : "the state repository");
            if (missing.Count > 0)
                notes.Add("registrationIncomplete", $"{name} is registered for {Names([sid])}, but not in {string.Join(" and not in ", missing)}.",
                    package.FullName);
        }
    }

    private string Names(IEnumerable<string> sids) => string.Join(", ", sids.Select(sid => machine.Accounts.First(a => a.Sid == sid).Name));

    private static string? CommonName(string? distinguishedName)
    {
        string? part = distinguishedName?.Split(',').Select(p => p.Trim())
        .FirstOrDefault(p => p.StartsWith("CN=", StringComparison.OrdinalIgnoreCase));
        return part is { Length: > 3 } ? part[3..].Trim('"') : null;
    }

    /// <summary>"Maker.PhotoTools.Extra" becomes "Photo Tools Extra".</summary>
    private static string ReadableName(string name)
    {
        string[] words = name.Split('.', '-');
        var text = new System.Text.StringBuilder();
        foreach (char c in string.Join(' ', words.Length > 1 ? words[1..] : words))
        {
            if (char.IsUpper(c) && text.Length > 0 && char.IsLower(text[^1]))
                text.Append(' ');
            text.Append(c);
        }
        return text.ToString();
    }
}
