using Moorfield.Core.Layout;
using Moorfield.Core.Trees;

namespace Moorfield.Core.Reading;

/// <summary>Looks policy values up in the hives that guards are for.</summary>
internal static class PolicyReader
{
    /// <summary>The values of an open hive.</summary>
    /// <param name="guards">Whose places are looked up, as far as they are for this kind of hive.</param>
    internal static PolicyHive Read(IRegistry hive, GuardHive kind, string? sid, WindowsPath path, IReadOnlyCollection<Guard> guards)
    {
        var values = ImmutableDictionary.CreateBuilder<PolicyPlace, HiveValue?>();
        foreach (var guard in guards.Where(g => g.Hive == kind && hive.Covers(g.Key, g.Value.Name)))
            values[PolicyPlace.Of(guard)] = guard.IsAbsence ? Keys(hive, guard) : hive.Find(guard.Key)?.Value(guard.Value.Name);
        return new PolicyHive(kind, sid, path, values.ToImmutable());
    }

    /// <summary>The names of keys that must not be there; null when there are none.</summary>
    internal static HiveValue? Keys(IRegistry hive, Guard guard)
    {
        var names = (hive.Find(guard.Key)?.Children() ?? []).Select(k => k.Name).Where(n => NamePattern.Matches(guard.Value.Name, n))
            .Order(StringComparer.OrdinalIgnoreCase).ToList();
        return names.Count == 0 ? null : HiveValue.FromStrings(guard.Value.Name, names);
    }

    /// <summary>A hive that could not be read.</summary>
    internal static PolicyHive Unread(GuardHive kind, string? sid, WindowsPath path, string error) =>
        new(kind, sid, path, ImmutableDictionary<PolicyPlace, HiveValue?>.Empty, error);

    /// <summary>A hive that is there, but was not looked into: none of its values is known.</summary>
    internal static PolicyHive Unseen(GuardHive kind, string? sid, WindowsPath path) =>
        new(kind, sid, path, ImmutableDictionary<PolicyPlace, HiveValue?>.Empty);

    /// <summary>
    /// The values of the profile that new accounts are made from, and of hives that nothing else is read from; none where there is no hive.
    /// </summary>
    internal static IEnumerable<PolicyHive?> ReadOthers(WindowsTree tree, ImmutableArray<Account> accounts, IReadOnlyCollection<Guard> guards)
    {
        foreach (var place in GuardPlace.All.Where(p => guards.Any(g => g.Hive == p.Hive)))
        {
            bool isRead = place.Hive is GuardHive.Machine or GuardHive.Account;
            foreach (var account in accounts.Where(a => !isRead && place.IsPerAccount && a.Profile is not null))
                yield return Read(tree, place.Hive, account.Sid, Places.GuardFile(place, account.Profile), guards);
            if (place.IsPerAccount || !isRead)
                yield return Read(tree, place.Hive, null, Places.GuardFile(place, place.IsPerAccount ? Places.DefaultProfile : null), guards);
        }
    }

    private static PolicyHive? Read(WindowsTree tree, GuardHive kind, string? sid, WindowsPath path, IReadOnlyCollection<Guard> guards)
    {
        if (tree.IsUnseen(path))
            return Unseen(kind, sid, path);
        try
        {
            using var hive = HiveFile.OpenRegistry(tree, path, new SnapshotNotes());
            return hive is null ? null : Read(hive, kind, sid, path, guards);
        }
        catch (InvalidDataException e)
        {
            return Unread(kind, sid, path, HiveFile.Damaged(tree, path, e).Message);
        }
        catch (MoorfieldException e)
        {
            return Unread(kind, sid, path, e.Message);
        }
    }
}
