namespace Moorfield.Core.Model;

/// <summary>For whom something is done.</summary>
/// <param name="Sids">Accounts that exist.</param>
/// <param name="Newcomers">True if it is done for accounts that do not exist yet.</param>
public sealed record Audience(ImmutableArray<string> Sids, bool Newcomers)
{
    /// <summary>No account, and no newcomers.</summary>
    public static Audience Nobody { get; } = new([], Newcomers: false);

    /// <summary>True if nobody is among them.</summary>
    public bool IsEmpty => Sids.IsEmpty && !Newcomers;

    /// <summary>These, but not those.</summary>
    public Audience Without(Audience those) => new([.. Sids.Except(those.Sids, StringComparer.OrdinalIgnoreCase)], Newcomers && !those.Newcomers);

    /// <summary>True if anybody is among both.</summary>
    public bool Meets(Audience those) => (Newcomers && those.Newcomers) || Sids.Intersect(those.Sids, StringComparer.OrdinalIgnoreCase).Any();

    /// <summary>In words: "everyone", or the names.</summary>
    public string Describe(SystemSnapshot snapshot)
    {
        if (Newcomers && Sids.Length == snapshot.Accounts.Length)
            return snapshot is { EditionNumber: not null, Accounts.IsEmpty: true } ? "newcomers" : "everyone";
        var names = Sids.Select(sid => snapshot.Account(sid)?.Name ?? sid);
        return string.Join(", ", Newcomers ? names.Append("newcomers") : names);
    }
}
