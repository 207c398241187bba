using Moorfield.Core.Layout;
using Moorfield.Core.Trees;
using Moorfield.Formats.Hives;

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
            values[PolicyPlace.Of(guard)] = hive.Find(guard.Key)?.Value(guard.Value.Name);
        return new PolicyHive(kind, sid, path, values.ToImmutable());
    }

    /// <summary>A hive that could not be read.</summary>
    internal static PolicyHive Unread(GuardHive kind, string? sid, WindowsPath path, string error) =>
        new(kind, sid, path, ImmutableDictionary<PolicyPlace, HiveValue?>.Empty, error);

    /// <summary>A hive that is there, but was not looked into: none of its values is known.</summary>
    internal static PolicyHive Unseen(GuardHive kind, string? sid, WindowsPath path) =>
        new(kind, sid, path, ImmutableDictionary<PolicyPlace, HiveValue?>.Empty);

    /// <summary>The values of the profile that new accounts are made from; none when it has no hive.</summary>
    internal static ImmutableArray<PolicyHive> ReadNewcomers(WindowsTree tree, IReadOnlyCollection<Guard> guards)
    {
        if (!guards.Any(g => g.Hive == GuardHive.Account))
            return [];
        var path = Places.UserHive(Places.DefaultProfile);
        if (tree.IsUnseen(path))
            return [Unseen(GuardHive.Account, null, path)];
        try
        {
            using var hive = HiveFile.OpenRegistry(tree, path, new SnapshotNotes());
            return hive is null ? [] : [Read(hive, GuardHive.Account, null, path, guards)];
        }
        catch (InvalidDataException e)
        {
            return [Unread(GuardHive.Account, null, path, HiveFile.Damaged(tree, path, e).Message)];
        }
        catch (MoorfieldException e)
        {
            return [Unread(GuardHive.Account, null, path, e.Message)];
        }
    }
}
