using System.Collections.Immutable;
using Moorfield.Core.Systems;
using Moorfield.Formats.Appx;

namespace Moorfield.Core.Standing;

/// <summary>What removing a package would mean.</summary>
public enum PackageStanding
{
    /// <summary>Nothing else is lost with it.</summary>
    Free,

    /// <summary>Part of the system, but people see and open it: removed only when named exactly.</summary>
    Guarded,

    /// <summary>The system or a staying package cannot do without it: refused.</summary>
    Essential,
}

/// <summary>Why a package stands as it does.</summary>
/// <param name="Code">Stable, for programs.</param>
public sealed record Reason(string Code, string Text);

public sealed record Verdict(PackageStanding Standing, ImmutableArray<Reason> Reasons);

/// <summary>Judges the packages of a snapshot, worked out from their manifests and from who needs whom.</summary>
public sealed class Judgement
{
    private const int NamesShown = 3;
    private readonly ILookup<PackageFullName, InstalledPackage> _neededBy;

    public Judgement(SystemSnapshot snapshot) =>
        _neededBy = snapshot.Packages.SelectMany(p => p.Needs.Select(n => (Need: n, Package: p))).ToLookup(n => n.Need, n => n.Package);

    /// <summary>The packages that need this one.</summary>
    public IEnumerable<InstalledPackage> NeededBy(InstalledPackage package) => _neededBy[package.FullName];

    /// <summary>The verdict as things are.</summary>
    public Verdict Of(InstalledPackage package) => Of(package, _ => false);

    /// <summary>The verdict when some packages go as well.</summary>
    /// <param name="goes">Whether a package is to go for everyone.</param>
    public Verdict Of(InstalledPackage package, Func<InstalledPackage, bool> goes)
    {
        if (package.Role == PackageRole.Component)
        {
            if (package.Manifest is null)
                return Because(PackageStanding.Essential, "systemPartUnread", "Part of the system, and its manifest cannot be read.");
            return package.IsShownInStart
                ? Because(PackageStanding.Guarded, "systemPartInStart", "Part of the system with an entry in Start: goes only when named exactly.")
                : Because(PackageStanding.Essential, "systemPart", "Part of the system without an entry in Start.");
        }
        var staying = NeededBy(package).Where(p => p.IsHeld && !goes(p)).ToList();
        if (package.Role == PackageRole.Framework)
        {
            return staying.Count > 0
                ? Because(PackageStanding.Essential, "needed", $"Needed by {List(staying)}.")
                : Because(PackageStanding.Free, "nothingNeedsIt", "A framework that no package needs.");
        }
        return Because(PackageStanding.Free, "nothingNeedsIt", staying.Count == 0
            ? "No other package needs it."
            : $"No other package needs it; {List(staying)} only {(staying.Count == 1 ? "extends" : "extend")} it and will go with it.");
    }

    private static Verdict Because(PackageStanding standing, string code, string text) => new(standing, [new Reason(code, text)]);

    private static string List(List<InstalledPackage> packages)
    {
        var names = packages.Select(p => p.DisplayName).Distinct(StringComparer.Ordinal).Order(StringComparer.OrdinalIgnoreCase).ToList();
        if (names.Count == 1)
            return names[0];
        return names.Count <= NamesShown + 1
            ? $"{string.Join(", ", names[..^1])} and {names[^1]}"
            : $"{string.Join(", ", names[..NamesShown])} and {names.Count - NamesShown} more";
    }
}
