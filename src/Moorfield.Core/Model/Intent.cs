namespace Moorfield.Core.Model;

/// <summary>The intention for a family.</summary>
public enum IntentKind
{
    /// <summary>The package goes.</summary>
    Remove,
    /// <summary>Leftovers of an earlier removal go.</summary>
    Clear,
    /// <summary>It is kept from being provisioned again.</summary>
    Block,
    /// <summary>Its block is lifted.</summary>
    Unblock,
    /// <summary>A guard is set.</summary>
    Guard,
    /// <summary>A guard is lifted.</summary>
    Unguard,
}

/// <summary>The meaning of a part of a run, next to the single changes on the disk: what, of which family, for whom.</summary>
/// <param name="Edition">Number of the edition, from 1; null on a volume.</param>
/// <param name="Subject">A family name, or what a guard is recorded under.</param>
/// <param name="Sids">Accounts for whom it is done; empty where it is for the machine.</param>
/// <param name="Newcomers">True if it is done for accounts that do not exist yet.</param>
/// <param name="KeepsData">True if the accounts keep their app data; for removals.</param>
public sealed record Intent(IntentKind Kind, int? Edition, string Subject, ImmutableArray<string> Sids, bool Newcomers, bool KeepsData = false)
{
    /// <summary>A part that is for the machine, and so for everyone.</summary>
    public static Intent Of(IntentKind kind, int? edition, string subject) => new(kind, edition, subject, [], Newcomers: false);

    public bool Equals(Intent? other) =>
        other is not null && (Kind, Edition, Subject, Newcomers, KeepsData) == (other.Kind, other.Edition, other.Subject, other.Newcomers,
            other.KeepsData)
        && Sids.SequenceEqual(other.Sids);

    public override int GetHashCode() => HashCode.Combine(Kind, Edition, Subject, Newcomers, KeepsData, Sids.Length);
}
