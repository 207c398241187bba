using Moorfield.Core.Selection;

namespace Moorfield.Core.Planning;

/// <summary>Chooses the packages that come back by what people call them.</summary>
internal sealed class BringBackChoice(IBringBackFacts facts, SystemSnapshot snapshot)
{
    /// <summary>The packages that words mean: of each family the newest that can run there, an application for the best of its architectures, a
    /// framework for all.</summary>
    /// <exception cref="MoorfieldException">A word means nothing, or nothing whose files can be had.</exception>
    internal IEnumerable<(OfferedPackage Package, IPackageSource Offer)> Choose(IReadOnlyCollection<string> arguments)
    {
        foreach (string argument in arguments)
        {
            var found = Find(argument);
            foreach (var family in found.GroupBy(f => f.Package.Main.Family))
            {
                var fitting = family.Where(f => PackageFit.Obstacle(f.Package.Main, f.Package.Manifest, snapshot) is null).ToList();
                var newest = (fitting.Count > 0 ? fitting : [.. family]).GroupBy(f => f.Package.Main.Version).MaxBy(g => g.Key)!
                    .OrderBy(f => PackageFit.Rank(f.Package.Main.Architecture, snapshot)).ToList();
                foreach (var one in newest[0].Package.Role == PackageRole.Framework ? newest : newest.Take(1))
                    yield return one;
            }
        }
    }

    /// <summary>Looks on the target or at the other places, and then in the restore points of runs that removed packages.</summary>
    private List<(OfferedPackage Package, IPackageSource Offer)> Find(string argument)
    {
        try
        {
            return facts.Others.Count == 0 ? Own(argument) : Others(argument);
        }
        catch (MoorfieldException e) when (e.Kind == ErrorKind.InvalidUsage)
        {
            var found = facts.Recorded.SelectMany(o => o.Packages.Where(p => NamePattern.Fits(argument, p.Main.Family.ToString(), p.DisplayName)
                || NamePattern.Matches(argument, p.Main.ToString())).Select(p => (p, o))).DistinctBy(f => f.p.Main).ToList();
            if (found.Count == 0)
                throw;
            return found;
        }
    }

    private List<(OfferedPackage Package, IPackageSource Offer)> Own(string argument)
    {
        ImmutableArray<SelectedPackage> chosen;
        try
        {
            chosen = PackageSelector.Find([argument], snapshot);
        }
        catch (MoorfieldException e)
        {
            throw new MoorfieldException(e.Kind, $"{e.Message} Removed packages can be taken from another system, an image or a package file with "
                + $"--from.", e);
        }
        var offered = chosen.Select(c => facts.Own.Packages.FirstOrDefault(o => o.Main == c.Package.FullName)).OfType<OfferedPackage>().ToList();
        if (offered.Count == 0 && chosen[0].Package.Elsewhere is { } folder)
        {
            throw new MoorfieldException(RefusalReason.NotOffered, $"{chosen[0].Package.DisplayName} lies in {folder}, not among the packages: only "
                + $"a "
                + "running Windows can register it from there.");
        }
        return offered.Count > 0 ? [.. offered.Select(o => (o, facts.Own))] : throw new MoorfieldException(ErrorKind.InvalidUsage,
            $"The files of {chosen[0].Package.DisplayName} are not on {facts.Name} any more. Name another system, an image or a package file with "
                + $"--from.");
    }

    private List<(OfferedPackage Package, IPackageSource Offer)> Others(string argument)
    {
        MoorfieldException? error = null;
        foreach (var offer in facts.Others)
        {
            if (offer.System is { } system)
            {
                try
                {
                    var names = PackageSelector.Find([argument], system).Select(c => c.Package.FullName).ToHashSet();
                    var found = offer.Packages.Where(p => names.Contains(p.Main)).Select(p => (p, offer)).ToList();
                    if (found.Count > 0)
                        return found;
                    error ??= new MoorfieldException(ErrorKind.InvalidUsage, $"{offer.Name} has no files of '{argument}'.");
                }
                catch (MoorfieldException e)
                {
                    error ??= new MoorfieldException(e.Kind, $"{offer.Name}: {e.Message}", e);
                }
            }
            else if (offer.Packages.Where(p => NamePattern.Fits(argument, p.Main.Family.ToString(), p.DisplayName)
                || NamePattern.Matches(argument, p.Main.ToString())).ToList() is { Count: > 0 } packages)
            {
                return [.. packages.Select(p => (p, offer))];
            }
        }
        throw error ?? new MoorfieldException(ErrorKind.InvalidUsage,
            $"{TextFormat.List(facts.Others.Select(o => o.Name))} holds "
                + $"{TextFormat.List(facts.Others.SelectMany(o => o.Packages).Select(p => p.DisplayName))}, and not '{argument}'.");
    }
}
