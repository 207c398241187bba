namespace Moorfield.Core.Reading;

/// <summary>The part of a registry hive that a survey brought.</summary>
internal sealed class SurveyRegistry : IRegistry
{
    // As deep as the registry itself allows; more would be an attack on whoever reads it.
    private const int MaxLevels = 512;
    private const int LongestName = 255;
    private readonly Key _root = new("");
    private readonly IReadOnlySet<PolicyPlace> _asked;

    /// <param name="asked">The policy values that were looked up.</param>
    /// <exception cref="InvalidDataException">A key or a value cannot be one.</exception>
    internal SurveyRegistry(IEnumerable<SurveyKeyJson> keys, IReadOnlySet<PolicyPlace> asked)
    {
        _asked = asked;
        foreach (var key in keys)
            Add(key.Key ?? "", [.. (key.Values ?? []).Select(Value)]);
    }

    public IRegistryKey Root => _root;

    public bool Covers(string key, string value) => _asked.Contains(PolicyPlace.Of(key, value));

    /// <summary>Adds a key unless it is there.</summary>
    internal void Add(string path, ImmutableArray<HiveValue> values)
    {
        string[] names = path.Split('\\');
        if (names.Length > MaxLevels || names.Any(n => n.Length is 0 or > LongestName))
            throw new InvalidDataException("holds a registry key that cannot be one");
        var key = _root;
        foreach (string name in names)
            key = key.Below(name);
        key.Add(values);
    }

    private static HiveValue Value(SurveyValue value)
    {
        string name = value.Name ?? "";
        if (value.Text is { } text)
            return HiveValue.FromString(name, text, value.Expands ? HiveValueType.ExpandString : HiveValueType.String);
        if (value.Number is { } number)
            return HiveValue.FromDWord(name, number);
        if (value.Long is { } large)
            return HiveValue.FromQWord(name, large);
        if (value.Texts is { } texts)
            return HiveValue.FromStrings(name, texts);
        try
        {
            return new HiveValue(name, HiveValueType.Binary, Convert.FromHexString(value.Bytes ?? ""));
        }
        catch (FormatException e)
        {
            throw new InvalidDataException("holds registry data that is not in hexadecimal digits", e);
        }
    }

    public void Dispose()
    {
    }

    private sealed class Key(string name) : IRegistryKey
    {
        private readonly Dictionary<string, Key> _keys = new(StringComparer.OrdinalIgnoreCase);
        private readonly Dictionary<string, HiveValue> _values = new(StringComparer.OrdinalIgnoreCase);

        public string Name => name;

        // Scripts do not know it.
        public DateTimeOffset? LastWritten => null;

        public IReadOnlyList<IRegistryKey> Children() => [.. _keys.Values];

        public IRegistryKey? Child(string name) => _keys.GetValueOrDefault(name);

        public ImmutableArray<HiveValue> Values() => [.. _values.Values];

        public HiveValue? Value(string name) => _values.GetValueOrDefault(name);

        internal Key Below(string name)
        {
            if (!_keys.TryGetValue(name, out var key))
                _keys[name] = key = new Key(name);
            return key;
        }

        internal void Add(ImmutableArray<HiveValue> values)
        {
            foreach (var value in values)
                _values[value.Name] = value;
        }
    }
}
