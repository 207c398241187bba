using Moorfield.Core.Layout;

namespace Moorfield.Core.Selection;

/// <summary>Blocks and guards as a registry text file, to be read by people and imported on a running machine, and back.</summary>
public static class RegistryExchange
{
    private static readonly string Machine = GuardPlace.Of(GuardHive.Machine).RegistryRoot;

    /// <param name="guards">Those that are set.</param>
    public static byte[] Write(string comment, IEnumerable<PackageFamilyName> blocks, IEnumerable<Guard> guards) => RegistryText.Write(
        [
            .. blocks.Select(b => new RegistryStatement(0, RegistryAction.AddKey, $@"{Machine}\{Places.Blocks}\{b}", null)),
            .. guards.Where(g => !g.IsAbsence).OrderBy(g => g.Hive).ThenBy(g => g.Key, StringComparer.OrdinalIgnoreCase)
            .Select(g => new RegistryStatement(0, RegistryAction.SetValue, KeyOf(g), g.Value)),
        ],
        comment);

    /// <summary>The blocks and known guards of a registry text file.</summary>
    /// <exception cref="MoorfieldException">It is not one, or holds anything else; the message gives the line.</exception>
    public static (ImmutableArray<PackageFamilyName> Blocks, ImmutableArray<Guard> Guards) Read(string path, ReadOnlySpan<byte> content)
    {
        var blocks = ImmutableArray.CreateBuilder<PackageFamilyName>();
        var guards = ImmutableArray.CreateBuilder<Guard>();
        try
        {
            foreach (var statement in RegistryText.Read(content))
            {
                if (Block(statement) is { } block)
                    blocks.Add(block);
                else if (KnownGuards.All.FirstOrDefault(g => !g.IsAbsence && Same(KeyOf(g), statement.Key) && statement.Value == g.Value) is { } guard
                    && statement.Action == RegistryAction.SetValue)
                    guards.Add(guard);
                else if (statement.Action != RegistryAction.AddKey || !IsParentKey(statement.Key))
                    throw new MoorfieldException(ErrorKind.InvalidUsage,
                        $"{path}:{statement.Line}: {statement.Key}{(statement.Value is { } value ? $": {value.Name}" : "")} is neither a block nor "
                            + "a known guard. Nothing of the file is taken.");
            }
        }
        catch (InvalidDataException e)
        {
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{path} {e.Message}.", e);
        }
        return ([.. blocks.Distinct()], [.. guards.Distinct()]);
    }

    private static PackageFamilyName? Block(RegistryStatement statement)
    {
        string place = $@"{Machine}\{Places.Blocks}\";
        return statement.Action == RegistryAction.AddKey && statement.Key.StartsWith(place, StringComparison.OrdinalIgnoreCase)
            && PackageFamilyName.TryParse(statement.Key.AsSpan(place.Length), out var family) ? family : null;
    }

    /// <summary>A key that holds a known guard, or one that blocks lie in: making it changes nothing that matters.</summary>
    private static bool IsParentKey(string key) => KnownGuards.All.Select(KeyOf).Append($@"{Machine}\{Places.Blocks}").Any(k => Same(k, key));

    private static string KeyOf(Guard guard) => $@"{guard.Place.RegistryRoot}\{guard.Key}";

    private static bool Same(string left, string right) => left.Equals(right, StringComparison.OrdinalIgnoreCase);
}
