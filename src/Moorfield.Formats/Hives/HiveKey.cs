namespace Moorfield.Formats.Hives;

/// <summary>A key of an open <see cref="Hive"/>. Valid as long as the hive is open and the key is not deleted.</summary>
public readonly unsafe struct HiveKey : IRegistryKey
{
    /// <summary>Most keys that one <see cref="Export()"/> records.</summary>
    public const int MaxExportedKeys = 1_000_000;

    private readonly Hive _hive;
    private readonly nuint _node;

    internal HiveKey(Hive hive, nuint node)
    {
        _hive = hive;
        _node = node != 0 ? node : throw new InvalidDataException("has a damaged key");
    }

    /// <summary>Without the path. One that cannot be written (<see cref="Hive.IsWritable"/>) holds a NUL.</summary>
    public string Name => TakeName(_hive, LibHivex.NodeName(_hive.Handle, _node), LibHivex.NodeNameLength(_hive.Handle, _node));

    /// <summary>When the key was written last, as it says itself; null when it says nothing sensible.</summary>
    public DateTimeOffset? LastWritten
    {
        get
        {
            long time = LibHivex.NodeTimestamp(_hive.Handle, _node);
            return time > 0 && time < DateTimeOffset.MaxValue.ToFileTime() ? DateTimeOffset.FromFileTime(time).ToUniversalTime() : null;
        }
    }

    /// <summary>The keys directly below, in the hive's order.</summary>
    /// <exception cref="InvalidDataException">The list of subkeys is damaged.</exception>
    public IReadOnlyList<HiveKey> Children()
    {
        var hive = _hive;
        return [.. TakeList(LibHivex.NodeChildren(_hive.Handle, _node)).Select(n => new HiveKey(hive, n))];
    }

    /// <summary>The key of that name directly below, any case; null when there is not one, or its name cannot be written.</summary>
    public HiveKey? Child(string name)
    {
        if (!Hive.IsWritable(name))
            return null;
        if (!_hive.WithOddKeys.Contains(_node))
        {
            nuint node = LibHivex.NodeGetChild(_hive.Handle, _node, name);
            bool isOdd = Marshal.GetLastPInvokeError() is BadText or BadInput;
            if (!isOdd && (node == 0 || LibHivex.NodeNameLength(_hive.Handle, node) == (nuint)Encoding.UTF8.GetByteCount(name)))
                return node == 0 ? null : new HiveKey(_hive, node);
            // libhivex compares up to a NUL, may stop at the first name that it cannot convert, and complains of that each time.
            _hive.WithOddKeys.Add(_node);
        }
        foreach (var child in Children())
        {
            if (child.Name.Equals(name, StringComparison.OrdinalIgnoreCase))
                return child;
        }
        return null;
    }

    private const int BadText = 84, BadInput = 22; // EILSEQ, EINVAL

    IReadOnlyList<IRegistryKey> IRegistryKey.Children() => [.. Children()];

    IRegistryKey? IRegistryKey.Child(string name) => Child(name);

    /// <exception cref="InvalidDataException">The list of values is damaged.</exception>
    public ImmutableArray<HiveValue> Values()
    {
        var hive = _hive;
        return [.. TakeList(LibHivex.NodeValues(_hive.Handle, _node)).Select(v => ReadValue(hive, v))];
    }

    /// <summary>The value of that name (empty: the default value), any case; null when there is not one, or its name cannot be written.</summary>
    public HiveValue? Value(string name)
    {
        if (!Hive.IsWritable(name))
            return null;
        if (!_hive.WithOddValues.Contains(_node))
        {
            nuint value = LibHivex.NodeGetValue(_hive.Handle, _node, name);
            bool isOdd = Marshal.GetLastPInvokeError() is BadText or BadInput;
            if (!isOdd && (value == 0 || LibHivex.ValueKeyLength(_hive.Handle, value) == (nuint)Encoding.UTF8.GetByteCount(name)))
                return value == 0 ? null : ReadValue(_hive, value);
            _hive.WithOddValues.Add(_node);
        }
        return Values().FirstOrDefault(v => HasName(v, name));
    }

    /// <summary>The text of a string value; null when it is missing or of another type.</summary>
    public string? Text(string name) => Value(name)?.AsString();

    /// <summary>Adds a key below this one.</summary>
    /// <exception cref="IOException">It is there already, or libhivex refused.</exception>
    public HiveKey Add(string name) => !Hive.IsWritable(name) ? throw new IOException("A name that holds a NUL cannot be written.")
        : LibHivex.NodeAddChild(_hive.Handle, _node, name) is var node and not 0 ? new HiveKey(_hive, node)
            : throw Hive.Failure($"add the key '{name}'");

    /// <summary>Sets a value, replacing one of the same name.</summary>
    public void Set(HiveValue value) => SetAll([.. Values().Where(v => !HasName(v, value.Name)), value]);

    /// <summary>Removes a value; nothing happens when it is not there.</summary>
    public void Remove(string valueName) => SetAll([.. Values().Where(v => !HasName(v, valueName))]);

    /// <summary>Deletes this key with everything below it.</summary>
    public void Delete()
    {
        string name = Name;
        if (LibHivex.NodeDeleteChild(_hive.Handle, _node) != 0)
            throw Hive.Failure($"delete the key '{name}'");
    }

    /// <summary>A record of this key and everything below it.</summary>
    /// <exception cref="InvalidDataException">Nested deeper than the registry allows, or more than <see cref="MaxExportedKeys"/> keys.</exception>
    public RecordedKey Export()
    {
        int left = MaxExportedKeys;
        return Export(0, ref left);
    }

    private RecordedKey Export(int depth, ref int left)
    {
        // A damaged hive can hold cycles: both limits end them.
        if (depth >= Hive.MaxDepth || left-- == 0)
            throw new InvalidDataException($"nests keys deeper than {Hive.MaxDepth} levels, or holds more than {MaxExportedKeys:N0} keys in one "
                + "place");
        var keys = ImmutableArray.CreateBuilder<RecordedKey>();
        foreach (var child in Children())
            keys.Add(child.Export(depth + 1, ref left));
        return new RecordedKey(Name, Values(), keys.ToImmutable());
    }

    /// <summary>Adds the recorded key, with everything below it, under this one.</summary>
    /// <exception cref="IOException">It is there already, has a name that cannot be written, or libhivex refused.</exception>
    public HiveKey Import(RecordedKey image)
    {
        var key = Add(image.Name);
        if (!image.Values.IsEmpty)
            key.SetAll(image.Values);
        foreach (var child in image.Keys)
            key.Import(child);
        return key;
    }

    private static bool HasName(HiveValue value, string name) => value.Name.Equals(name, StringComparison.OrdinalIgnoreCase);

    private void SetAll(ImmutableArray<HiveValue> values)
    {
        if (values.Any(v => !Hive.IsWritable(v.Name)))
            throw new IOException($"The key '{Name}' has a value whose name holds a NUL or is not valid text: libhivex cannot write that.");
        var native = new LibHivex.SetValue[values.Length];
        var pinned = new List<GCHandle>(2 * values.Length);
        try
        {
            for (int i = 0; i < native.Length; i++)
            {
                if (values[i].Data.Length > HiveValue.MaxWritableLength)
                    throw new IOException($"The value '{values[i].Name}' has {values[i].Data.Length:N0} bytes; at most "
                        + $"{HiveValue.MaxWritableLength:N0} can be written.");
                native[i] = new()
                {
                    Key = Pin(pinned, Encoding.UTF8.GetBytes(values[i].Name + '\0')),
                    Type = (uint)values[i].Type,
                    Length = (nuint)values[i].Data.Length,
                    Value = Pin(pinned, values[i].Data.ToArray()),
                };
            }
            fixed (LibHivex.SetValue* first = native)
            {
                if (LibHivex.NodeSetValues(_hive.Handle, _node, (nuint)native.Length, first, 0) != 0)
                    throw Hive.Failure($"set values of the key '{Name}'");
            }
        }
        finally
        {
            pinned.ForEach(p => p.Free());
        }
    }

    private static byte* Pin(List<GCHandle> pinned, byte[] bytes)
    {
        var handle = GCHandle.Alloc(bytes, GCHandleType.Pinned);
        pinned.Add(handle);
        return (byte*)handle.AddrOfPinnedObject();
    }

    private static HiveValue ReadValue(Hive hive, nuint value)
    {
        string name = TakeName(hive, LibHivex.ValueKey(hive.Handle, value), LibHivex.ValueKeyLength(hive.Handle, value));
        byte* data = LibHivex.ValueValue(hive.Handle, value, out uint type, out nuint length);
        if (data == null)
            throw new InvalidDataException($"has a damaged value '{name}'");
        byte[] bytes = new ReadOnlySpan<byte>(data, checked((int)length)).ToArray();
        NativeMemory.Free(data);
        return new HiveValue(name, (HiveValueType)type, bytes);
    }

    private static string TakeName(Hive hive, byte* text, nuint length)
    {
        if (text == null)
        {
            if (Marshal.GetLastPInvokeError() is not (BadText or BadInput))
                throw new InvalidDataException("has a damaged name");
            return hive.Unwritable(Hive.NoText);
        }
        string result = Encoding.UTF8.GetString(text, checked((int)length));
        NativeMemory.Free(text);
        return Hive.IsWritable(result) ? result : hive.Unwritable(result);
    }

    private static List<nuint> TakeList(nuint* list)
    {
        if (list == null)
            throw new InvalidDataException("has a damaged list of keys or values");
        var items = new List<nuint>();
        for (nuint* item = list; *item != 0; item++)
            items.Add(*item);
        NativeMemory.Free(list);
        return items;
    }
}
