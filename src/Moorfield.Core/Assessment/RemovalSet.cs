using System.Runtime.CompilerServices;

namespace Moorfield.Core.Assessment;

/// <summary>Who loses which packages in one removal. Null stands for newcomers wherever a SID is asked for.</summary>
public sealed class RemovalSet
{
    // By the snapshot's own records: comparing their contents takes long.
    private readonly Dictionary<InstalledPackage, (IReadOnlyCollection<string> Sids,
        bool Newcomers)> _losses = new(ReferenceEqualityComparer.Instance);

    /// <param name="losses">Packages of one snapshot.</param>
    /// <param name="keepData">Accounts keep their app data.</param>
    public RemovalSet(IEnumerable<(InstalledPackage Package, IReadOnlyCollection<string> Sids, bool Newcomers)> losses, bool keepData)
    {
        foreach (var (package, sids, newcomers) in losses)
            _losses[package] = (sids, newcomers);
        KeepsData = keepData;
    }

    /// <summary>True if accounts keep their app data.</summary>
    public bool KeepsData { get; }

    /// <summary>Packages go for everyone who has them.</summary>
    public static RemovalSet ForEveryone(IEnumerable<InstalledPackage> packages) =>
        new(packages.Select(p => (p, (IReadOnlyCollection<string>)p.Accounts, true)), keepData: false);

    // Asked for again and again; there may be a hundred accounts.
    private static readonly ConditionalWeakTable<InstalledPackage, HashSet<string>> Holders = [];

    /// <summary>True if somebody has a package before the removal.</summary>
    public static bool Had(InstalledPackage package, string? sid) =>
        sid is null ? package.Newcomers : Holders.GetValue(package, p => [.. p.Accounts]).Contains(sid);

    /// <summary>True if somebody has a package and loses it.</summary>
    public bool Leaves(InstalledPackage package, string? sid) =>
        Had(package, sid) && _losses.TryGetValue(package, out var loss) && (sid is null ? loss.Newcomers : loss.Sids.Contains(sid));

    /// <summary>True if somebody has a package afterwards.</summary>
    public bool Keeps(InstalledPackage package, string? sid) => Had(package, sid) && !Leaves(package, sid);

    /// <summary>True if anybody has a package afterwards.</summary>
    public bool IsKept(InstalledPackage package) => Keeps(package, null) || package.Accounts.Any(sid => Keeps(package, sid));

    /// <summary>True if a package is to go, for anybody.</summary>
    public bool Concerns(InstalledPackage package) => _losses.ContainsKey(package);
}
