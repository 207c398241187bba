namespace Moorfield.Formats.Hives;

/// <summary>
/// An immutable record of a key with everything below it. Equal when names (any case), values and subkeys are, whatever their order:
/// the registry keeps subkeys sorted and gives the order of values no meaning.
/// </summary>
public sealed record RecordedKey(string Name, ImmutableArray<HiveValue> Values, ImmutableArray<RecordedKey> Keys)
{
    /// <summary>True if all of its names can be written.</summary>
    public bool IsWritable => Hive.IsWritable(Name) && Values.All(v => Hive.IsWritable(v.Name)) && Keys.All(k => k.IsWritable);

    public bool Equals(RecordedKey? other) =>
        other is not null
        && Name.Equals(other.Name, StringComparison.OrdinalIgnoreCase)
        && Values.Length == other.Values.Length && Keys.Length == other.Keys.Length
        && Sorted(Values, v => v.Name).SequenceEqual(Sorted(other.Values, v => v.Name))
        && Sorted(Keys, k => k.Name).SequenceEqual(Sorted(other.Keys, k => k.Name));

    public override int GetHashCode() => HashCode.Combine(Name.GetHashCode(StringComparison.OrdinalIgnoreCase), Values.Length, Keys.Length);

    private static IEnumerable<T> Sorted<T>(ImmutableArray<T> items, Func<T, string> name) => items.OrderBy(name, StringComparer.OrdinalIgnoreCase);
}
