namespace Moorfield.Core.Model;

/// <summary>A registry value by its place in a hive, whatever the case of its letters.</summary>
public readonly record struct PolicyPlace
{
    private PolicyPlace(string key, string name) => (Key, Name) = (key, name);

    /// <summary>Path of the key, in capitals.</summary>
    public string Key { get; }

    /// <summary>Name of the value, in capitals.</summary>
    public string Name { get; }

    /// <summary>The place of a key's value.</summary>
    public static PolicyPlace Of(string key, string name) => new(key.ToUpperInvariant(), name.ToUpperInvariant());

    /// <summary>The place that a guard is about.</summary>
    public static PolicyPlace Of(Guard guard) => Of(guard.Key, guard.Value.Name);
}

/// <summary>The policy values of one hive, as far as they were looked up.</summary>
/// <param name="Sid">The account whose hive it is; null for the machine's and new accounts'.</param>
/// <param name="Path">Of the hive.</param>
/// <param name="Values">The values found at each place that was looked up; null where there is no such value.</param>
/// <param name="Error">Why it could not be read, as a full sentence; null when it could.</param>
public sealed record PolicyHive(
    GuardHive Kind, string? Sid, WindowsPath Path, ImmutableDictionary<PolicyPlace, HiveValue?> Values, string? Error = null);
