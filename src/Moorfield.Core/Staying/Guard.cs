using System.Collections.Immutable;
using Moorfield.Core.Changes;
using Moorfield.Core.Choosing;
using Moorfield.Core.Systems;
using Moorfield.Core.Volumes;
using Moorfield.Formats.Hives;

namespace Moorfield.Core.Staying;

public enum GuardHive
{
    /// <summary>SOFTWARE: for everyone on the machine.</summary>
    Machine,

    /// <summary>NTUSER.DAT of each account, and of the profile that new accounts are made from.</summary>
    Account,
}

/// <summary>A registry policy value that keeps something from coming back where a block is not enough.</summary>
/// <param name="Key">Path inside the hive.</param>
/// <param name="Family">The package that it is about; null when it is about none in particular.</param>
public sealed record Guard(GuardHive Hive, string Key, HiveValue Value, string? Family, string? Because)
{
    public string Describe() => $"{(Hive == GuardHive.Machine ? "SOFTWARE" : "NTUSER.DAT")}: {Key}: {Value.Name}";
}

/// <summary>A guard that is not set in one hive.</summary>
/// <param name="Sid">The account whose hive it is; null for the machine's and new accounts'.</param>
/// <param name="Before">What the value is now; null when it is not there.</param>
public sealed record UnsetGuard(Guard Guard, string? Sid, WindowsPath Hive, HiveValue? Before)
{
    internal Change Change => new ValueChanged(Guard.Family ?? "", Hive.ToString(), Guard.Key, Guard.Value.Name, Before, Guard.Value);

    /// <summary>Where it is not set, in words.</summary>
    public string Place(SystemSnapshot snapshot) =>
        Guard.Hive == GuardHive.Machine ? "the machine" : Sid is null ? "newcomers" : snapshot.Account(Sid)?.Name ?? Sid;
}

/// <summary>Holds guards against a system.</summary>
public static class Guards
{
    /// <summary>The guards that are not set as they should be.</summary>
    /// <param name="audience">Whose hives are meant, for those of accounts.</param>
    /// <exception cref="MoorfieldException">A hive cannot be read.</exception>
    public static ImmutableArray<UnsetGuard> Unset(WindowsTree tree, SystemSnapshot snapshot, IReadOnlyCollection<Guard> guards, Audience audience)
    {
        var unset = ImmutableArray.CreateBuilder<UnsetGuard>();
        Look(GuardHive.Machine, null, Places.Software);
        foreach (var account in snapshot.Accounts.Where(a => audience.Sids.Contains(a.Sid) && a.Profile is not null))
            Look(GuardHive.Account, account.Sid, Places.UserHive(account.Profile!.Value));
        if (audience.Newcomers)
            Look(GuardHive.Account, null, Places.UserHive(Places.DefaultProfile));
        return unset.ToImmutable();

        void Look(GuardHive kind, string? sid, WindowsPath path)
        {
            var concerned = guards.Where(g => g.Hive == kind).ToList();
            if (concerned.Count == 0)
                return;
            using var hive = HiveFile.OpenRead(tree, path, new SnapshotNotes()) ?? throw new MoorfieldException(Trouble.Failed, $"{tree.Name}: {path} is not there, so its guards cannot be looked up.");
            try
            {
                foreach (var guard in concerned)
                {
                    var now = hive.Find(guard.Key)?.Value(guard.Value.Name);
                    if (now != guard.Value)
                        unset.Add(new UnsetGuard(guard, sid, path, now));
                }
            }
            catch (InvalidDataException e)
            {
                throw HiveFile.Damaged(tree, path, e);
            }
        }
    }
}
