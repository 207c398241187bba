namespace Moorfield.Core.Fleets;

/// <summary>The facts, other than packages, that judging a machine by its packages needs.</summary>
/// <param name="Accounts">Names of its accounts, a line each; null where packages do not say all.</param>
/// <param name="Blocks">Families that are blocked, a line each; the first line is a hyphen where Windows has no blocks.</param>
/// <param name="Guards">The known guards, as <see cref="StoredGuards"/> writes them.</param>
/// <param name="HoldersOf">The accounts that have a package which some of them have: a bit each, the first one is the lowest; null
/// where that is not known.</param>
internal sealed record MachineState(string? Accounts, string Blocks, string Guards, Func<FleetItem, ulong?> HoldersOf)
{
    private const string NoBlocks = "-\n";

    /// <summary>The number of its accounts; null where packages do not say all.</summary>
    internal int? Count =>
        Accounts is null ? null : Accounts.Length == 0 ? 0 : Accounts.AsSpan().Count('\n') + 1 is <= NamePlaces.Most and var count ? count : null;

    /// <summary>Names of accounts; null where packages do not say all.</summary>
    internal string[]? Names => Count switch { null => null, 0 => [], _ => Accounts!.Split('\n') };

    internal bool HasBlocks => !Blocks.StartsWith(NoBlocks, StringComparison.Ordinal);

    /// <summary>The state of a system. Its accounts are null for an edition of an image, and where packages belong to accounts that the system
    /// does not know: then packages do not say all.</summary>
    internal static MachineState Of(SystemSnapshot system)
    {
        bool isWhole = (system.EditionNumber is not null || system.Computer.Length == 0 || system.Accounts.Length > NamePlaces.Most
            || system.Accounts.Any(a => a.Name.Length == 0 || a.Name.Any(char.IsControl) || a.Name.Any(NamePlaces.IsPlace))
            || system.Packages.Any(p => !p.Accounts.SequenceEqual(system.Accounts.Select(a => a.Sid).Where(p.Accounts.Contains))));
        return new MachineState(isWhole ? null : string.Join('\n', system.Accounts.Select(a => a.Name)),
            (system.NoBlocksBecause is null ? "" : NoBlocks) + string.Join('\n', system.Blocks.Order()), StoredGuards.Write(system),
            _ => 0);
    }

    internal static ulong Mask(InstalledPackage package, SystemSnapshot system)
    {
        ulong mask = 0;
        for (int i = 0; i < Math.Min(system.Accounts.Length, NamePlaces.Most); i++)
            mask |= package.Accounts.Contains(system.Accounts[i].Sid) ? 1UL << i : 0;
        return mask;
    }
}
