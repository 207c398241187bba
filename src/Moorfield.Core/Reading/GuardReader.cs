using System.Collections.Immutable;
using Moorfield.Core.Model;
using Moorfield.Core.Trees;
using Moorfield.Formats.Hives;

namespace Moorfield.Core.Reading;

/// <summary>Holds guards against a system.</summary>
public static class GuardReader
{
    /// <summary>Where each guard stands, in each hive that it is for. An account whose hive is gone has none: nobody can sign in to it.</summary>
    /// <param name="audience">Whose hives are meant, for those of accounts.</param>
    /// <exception cref="MoorfieldException">A hive cannot be read, or the machine's or the default profile's is not there.</exception>
    public static ImmutableArray<GuardState> Read(WindowsTree tree, SystemSnapshot snapshot, IReadOnlyCollection<Guard> guards, Audience audience)
    {
        var states = ImmutableArray.CreateBuilder<GuardState>();
        Look(GuardHive.Machine, null, Places.Software);
        foreach (var account in snapshot.Accounts.Where(a => audience.Sids.Contains(a.Sid) && a.Profile is not null))
            Look(GuardHive.Account, account.Sid, Places.UserHive(account.Profile!.Value));
        if (audience.Newcomers)
            Look(GuardHive.Account, null, Places.UserHive(Places.DefaultProfile));
        return states.ToImmutable();

        void Look(GuardHive kind, string? sid, WindowsPath path)
        {
            var concerned = guards.Where(g => g.Hive == kind).ToList();
            if (concerned.Count == 0)
                return;
            using var hive = HiveFile.OpenRead(tree, path, new SnapshotNotes());
            if (hive is null && sid is not null)
                return;
            if (hive is null)
                throw new MoorfieldException(Trouble.Failed, $"{tree.Name}: {path} is not there, so its guards cannot be looked up.");
            try
            {
                states.AddRange(concerned.Select(g => new GuardState(g, sid, path, hive.Find(g.Key)?.Value(g.Value.Name))));
            }
            catch (InvalidDataException e)
            {
                throw HiveFile.Damaged(tree, path, e);
            }
        }
    }
}
