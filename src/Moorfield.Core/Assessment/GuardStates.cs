using Moorfield.Core.Layout;

namespace Moorfield.Core.Assessment;

/// <summary>Holds guards against what a snapshot says of policy values.</summary>
public static class GuardStates
{
    /// <summary>The state of each guard, in each hive that it is for. An account whose hive is gone has none: nobody can sign in to it.</summary>
    /// <param name="snapshot">Read with these guards, or a saved one; what was not looked up is not known.</param>
    /// <param name="guards">Of any hive.</param>
    /// <param name="audience">Whose hives are meant, for those of accounts.</param>
    /// <exception cref="MoorfieldException">A hive could not be read, or the default profile's is not there.</exception>
    public static ImmutableArray<GuardState> Of(SystemSnapshot snapshot, IReadOnlyCollection<Guard> guards, Audience audience)
    {
        var states = ImmutableArray.CreateBuilder<GuardState>();
        foreach (var place in GuardPlace.All)
        {
            foreach (var account in snapshot.Accounts.Where(a => place.IsPerAccount && audience.Sids.Contains(a.Sid)))
                Look(place, account.Sid);
            if (!place.IsPerAccount || audience.Newcomers)
                Look(place, null);
        }
        return states.ToImmutable();

        void Look(GuardPlace place, string? sid)
        {
            var concerned = guards.Where(g => g.Hive == place.Hive).ToList();
            if (concerned.Count == 0)
                return;
            var hive = snapshot.PolicyHives.FirstOrDefault(h => h.Kind == place.Hive && string.Equals(h.Sid, sid,
                StringComparison.OrdinalIgnoreCase));
            if (hive is null && sid is not null)
                return;
            if (hive is null || hive.Error is not null)
            {
                var file = Places.GuardFile(place, place.IsPerAccount ? Places.DefaultProfile : null);
                throw new MoorfieldException(ErrorKind.Failed,
                    hive?.Error ?? $"{snapshot.Name}: {file} is not there, so its guards cannot be looked up.");
            }
            states.AddRange(concerned.Select(g => new GuardState(
                g, sid, hive.Path, hive.Values.GetValueOrDefault(PolicyPlace.Of(g)), hive.Values.ContainsKey(PolicyPlace.Of(g)))));
        }
    }
}
