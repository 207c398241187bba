using Moorfield.Core.Layout;
using Moorfield.Core.Trees;
using Moorfield.Formats.Defaults;

namespace Moorfield.Core.Reading;

/// <summary>The packages in the lists for new accounts.</summary>
/// <param name="Traces">Entries by family.</param>
/// <param name="UnknownEntries">Entries that point to a package which is not there.</param>
/// <param name="Given">The programs that new accounts are given for file types and links.</param>
internal sealed record NewcomerLists(ILookup<PackageFamilyName, Trace> Traces, ImmutableArray<Trace> UnknownEntries,
    ImmutableArray<ChosenHandler> Given)
{
    /// <param name="owners">Families by ProgId, as far as any classes tell.</param>
    internal static NewcomerLists Read(
        WindowsTree tree, ImmutableArray<InstalledPackage> packages, IReadOnlyDictionary<string, PackageFamilyName> owners, SnapshotNotes notes)
    {
        var traces = new List<(PackageFamilyName Family, Trace Trace)>();
        var strays = ImmutableArray.CreateBuilder<Trace>();
        var given = ImmutableArray.CreateBuilder<ChosenHandler>();
        var families = packages.Where(p => p.HasFiles).Select(p => p.Family).ToHashSet();
        foreach (var entry in DefaultLists.Read(tree, Places.DefaultAssociations, notes))
        {
            if (entry["Identifier"] is not { Length: > 0 } what || entry["ProgId"] is not { } progId)
                continue;
            var family = HandlerClasses.IsPackages(progId) ? Owner(entry, what, progId) : null;
            given.Add(new ChosenHandler(null, what, family));
            // Of a ProgId that no classes know, only that nothing provisioned opens this tells that it leads nowhere.
            bool stray = HandlerClasses.IsPackages(progId)
                && (family is { } known ? !families.Contains(known) : !packages.Any(p => p.Newcomers && Opens(p, what)));
            Add(family, stray, TraceKind.DefaultAssociation, Places.DefaultAssociations, entry);
        }
        foreach (var entry in DefaultLists.Read(tree, Places.Pins, notes))
        {
            if (entry["packagedAppId"]?.Split('!')[0] is { } name && PackageFamilyName.TryParse(name, out var family))
                Add(family, !families.Contains(family), TraceKind.StartPin, Places.Pins, entry);
        }
        return new NewcomerLists(traces.ToLookup(t => t.Family, t => t.Trace), strays.ToImmutable(), given.ToImmutable());

        // In an image no account's classes tell whose a ProgId is: then the application's name has to.
        PackageFamilyName? Owner(ListEntry entry, string what, string progId)
        {
            if (owners.TryGetValue(progId, out var owner))
                return owner;
            var named = packages.Where(p => p.Newcomers && Opens(p, what)
                && Names(p).Contains(entry["ApplicationName"], StringComparer.OrdinalIgnoreCase)).Select(p => p.Family).Distinct().ToList();
            return named.Count == 1 ? named[0] : null;
        }

        void Add(PackageFamilyName? family, bool stray, TraceKind kind, WindowsPath file, ListEntry entry)
        {
            var trace = new Trace(TraceScope.Newcomers, null, kind, new EntryLocation(file, entry.Text));
            if (stray)
                strays.Add(trace);
            else if (family is { } known)
                traces.Add((known, trace));
        }
    }

    private static bool Opens(InstalledPackage package, string what) =>
        package.Manifest is { } manifest
            && (what.StartsWith('.') ? manifest.FileTypes : manifest.Schemes).Contains(what, StringComparer.OrdinalIgnoreCase);

    private static IEnumerable<string?> Names(InstalledPackage package) =>
        (package.Manifest?.Applications ?? []).Select(a => a.DisplayName).Append(package.DisplayName);
}
