namespace Moorfield.Formats.Hives;

/// <summary>A part of a registry as it is read, whatever holds it: a hive's file, or what a machine said of it.</summary>
public interface IRegistry : IDisposable
{
    /// <summary>The key that holds all others.</summary>
    IRegistryKey Root { get; }

    /// <summary>Names that were met so far and cannot be written.</summary>
    IReadOnlyCollection<string> UnwritableNames => [];

    /// <summary>True if it would hold a value if there were one; one that brings only what was asked for may not.</summary>
    bool Covers(string key, string value) => true;

    /// <summary>The key at a path of names separated by backslashes, any case; null when it is not there.</summary>
    IRegistryKey? Find(string path)
    {
        IRegistryKey? key = Root;
        foreach (string name in path.Split('\\', StringSplitOptions.RemoveEmptyEntries))
            key = key?.Child(name);
        return key;
    }
}

/// <summary>A key of an <see cref="IRegistry"/>. Members throw InvalidDataException where a hive is damaged.</summary>
public interface IRegistryKey
{
    /// <summary>Without the path.</summary>
    string Name { get; }

    /// <summary>When the key was written last; null when that is not known.</summary>
    DateTimeOffset? LastWritten { get; }

    /// <summary>The keys directly below.</summary>
    IReadOnlyList<IRegistryKey> Children();

    /// <summary>The key of that name directly below, any case; null when there is none.</summary>
    IRegistryKey? Child(string name);

    /// <summary>All values.</summary>
    ImmutableArray<HiveValue> Values();

    /// <summary>The value of that name (empty: the default value), any case; null when there is none.</summary>
    HiveValue? Value(string name);

    /// <summary>A record of this key and everything below it.</summary>
    RecordedKey Export() => new(Name, Values(), [.. Children().Select(c => c.Export())]);

    /// <summary>The text of a string value; null when it is missing or of another type.</summary>
    string? Text(string name) => Value(name)?.AsString();
}
