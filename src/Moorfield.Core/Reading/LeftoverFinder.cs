using Moorfield.Core.Layout;
using Moorfield.Core.Trees;

namespace Moorfield.Core.Reading;

/// <summary>Finds what earlier removals of packages left.</summary>
internal sealed class LeftoverFinder(WindowsTree tree, ImmutableArray<InstalledPackage> packages, MachineRegistry machine,
    ImmutableArray<AccountRegistry> accounts, NewcomerLists lists)
{
    internal IReadOnlyCollection<Leftover> Find()
    {
        // Without a folder of packages it is not known what is on the disk.
        if (tree.List(machine.Roots.Packages).Count == 0)
            return [];
        var found = new List<Leftover>();
        foreach (var package in packages.Where(IsLeftover))
        {
            bool all = package.Parts.Any(p => p.Traces.Any(t => t.Location is RowsLocation { Sid: null }));
            foreach (var part in package.Parts)
            {
                // The rows of a whole package take those of its registrations along.
                foreach (var trace in part.Traces.Where(t => !(all && t.Location is RowsLocation { Sid: not null })))
                    found.Add(Leftover(KindOf(trace), package.Family, part.FullName, trace));
            }
        }
        foreach (var account in accounts.Where(a => a.HasClasses))
        {
            string sid = account.Account.Sid;
            var has = packages.Where(p => p.Accounts.Contains(sid) && !IsLeftover(p)).Select(p => p.Family).ToHashSet();
            var held = account.FamilyTraces.Where(g => has.Contains(g.Key)).SelectMany(g => g).Select(t => t.Location).ToHashSet();
            foreach (var family in account.FamilyTraces.Where(g => !has.Contains(g.Key) && !IsSystemPart(g.Key)))
                found.AddRange(family.Where(t => !held.Contains(t.Location)).Select(t => Leftover(KindOf(t), family.Key, null, t)));
            found.AddRange(account.UnknownRegistrations.Select(t => Leftover(KindOf(t), null, null, t)));
        }
        found.AddRange(lists.UnknownEntries.Select(t => Leftover(KindOf(t), null, null, t)));
        return [.. found];
    }

    /// <summary>Parts of the system are in order whoever has them; frameworks wait for a package that needs them.</summary>
    private bool IsLeftover(InstalledPackage package) =>
        package.Role != PackageRole.Component
            && (package.HasFiles ? !package.IsHeld && package.Role != PackageRole.Framework : !IsElsewhere(package));

    /// <summary>
    /// Whether its entries give a place on another drive, or one on this volume that is there: apps may be moved, and developers register
    /// them where they are made. [doc]
    /// </summary>
    private bool IsElsewhere(InstalledPackage package) =>
        package.Parts.SelectMany(p => machine.RecordedPaths[p.FullName].Concat(accounts.SelectMany(a => a.RecordedPaths[p.FullName])))
            .Any(place => WindowsPath.Parse(place) is not { } path || tree.Stat(path) is not null);

    private bool IsSystemPart(PackageFamilyName family) =>
    packages.Any(p => p.Family == family && p.Role is PackageRole.Component or PackageRole.Framework);

    private Leftover Leftover(LeftoverKind kind, PackageFamilyName? family, PackageFullName? fullName, Trace trace) =>
        new(kind, family, fullName, trace.Sid, trace.Location is TreeLocation place ? tree.TreeBytes(place.Path) : 0, trace.Location);

    private static LeftoverKind KindOf(Trace trace) => PackagePlaces.Of(trace)?.Leftover ?? LeftoverKind.Registration;
}
