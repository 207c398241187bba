namespace Moorfield.Formats.Hives;

/// <summary>
/// A registry hive, read and changed through libhivex. Changes stay in memory until <see cref="ToArray"/> gives the new file.
/// Not for use from several threads.
/// </summary>
public sealed class Hive : IRegistry
{
    /// <summary>The registry allows 512 levels; anything deeper is damage.</summary>
    internal const int MaxDepth = 512;

    private Hive(HiveHandle handle, HiveHeader header)
    {
        Handle = handle;
        Header = header;
    }

    internal HiveHandle Handle { get; }

    /// <summary>Of the file as it was opened.</summary>
    public HiveHeader Header { get; }

    /// <summary>Stands for a name that is not text; a NUL marks that it cannot be written.</summary>
    internal const string NoText = "\uFFFD\0";

    /// <summary>Keys that have a key below whose name libhivex cannot compare: these are looked through one by one.</summary>
    internal HashSet<nuint> WithOddKeys { get; } = [];

    /// <summary>The same for values.</summary>
    internal HashSet<nuint> WithOddValues { get; } = [];

    private readonly HashSet<string> _unwritable = new(StringComparer.Ordinal);

    /// <summary>Names that were met and that libhivex can read at most: those with a NUL, and those that are no proper text.</summary>
    public IReadOnlyCollection<string> UnwritableNames => _unwritable;

    /// <summary>True if libhivex, which takes names as C strings, can write a name.</summary>
    public static bool IsWritable(string name) => !name.Contains('\0', StringComparison.Ordinal);

    internal string Unwritable(string name)
    {
        _unwritable.Add(name);
        return name;
    }

    /// <summary>The key that holds all others.</summary>
    public HiveKey Root => new(this, LibHivex.Root(Handle));

    IRegistryKey IRegistry.Root => Root;

    IRegistryKey? IRegistry.Find(string path) => Find(path);

    /// <summary>Opens a hive for reading. A dirty hive can be read; what its logs hold is missing from it.</summary>
    /// <exception cref="InvalidDataException">Not a hive, or a damaged one.</exception>
    /// <exception cref="DllNotFoundException">libhivex is not installed; the message names the package.</exception>
    public static Hive OpenRead(SafeFileHandle file) => Open(file, 0);

    /// <summary>Reads a hive into memory for changing. The file itself is not written.</summary>
    /// <exception cref="InvalidDataException">Not a hive, or a damaged or dirty one.</exception>
    /// <exception cref="DllNotFoundException">libhivex is not installed; the message names the package.</exception>
    public static Hive OpenWrite(SafeFileHandle file) => Open(file, LibHivex.OpenWrite);

    private static Hive Open(SafeFileHandle file, int flags)
    {
        if (Fault.Value is { } fault)
            throw new DllNotFoundException(fault);
        return OpenUnchecked(file, flags);
    }

    /// <summary>Tries libhivex by use: says what is wrong with it, or null when nothing is.</summary>
    internal static string? Try()
    {
        try
        {
            return Fault.Value;
        }
        catch (DllNotFoundException e)
        {
            return e.Message;
        }
    }

    // Where the C library lacks its tables of encodings, libhivex reads on without the names that it cannot convert.
    private static readonly Lazy<string?> Fault = new(Probe);

    /// <summary>Writes a hive that is made up and reads it back; says what is wrong, or null when nothing is.</summary>
    private static string? Probe()
    {
        const string Key = "F\u00e4hre", Name = "Ma\u00df", Wide = "\u8239";
        byte[] data = System.Text.Encoding.Unicode.GetBytes("\u00dcberfahrt 7 \u20ac\0");
        try
        {
            using var empty = MemoryFile.Create();
            RandomAccess.Write(empty, MinimalHive.Create("ROOT", DateTimeOffset.UnixEpoch), 0);
            using var made = OpenUnchecked(empty, LibHivex.OpenWrite);
            made.Create($@"Plain\{Key}\{Wide}").Set(new HiveValue(Name, HiveValueType.String, data));
            using var written = made.ToFile();
            using var read = OpenUnchecked(written, 0);
            return read.Find($@"plain\{Key}\{Wide}")?.Value(Name) is { Type: HiveValueType.String } value
                && value.Data.Span.SequenceEqual(data) ? null : Wrong;
        }
        catch (Exception e) when (e is InvalidDataException or IOException)
        {
            return Wrong;
        }
    }

    private const string Wrong = "libhivex does not read back what it writes: the C library's tables of encodings (the folder gconv, of the Debian "
        + "package libc6) may be missing. Nothing was read.";

    private static Hive OpenUnchecked(SafeFileHandle file, int flags)
    {
        var header = HiveHeader.Read(file);
        if (header.IsDirty && flags != 0)
            throw new InvalidDataException("was not flushed when Windows last shut down");
        using var rebuilt = flags != 0 && HiveStructure.Check(file) is { Count: > 0 } plain ? HiveLists.Rebuild(file, plain) : null;
        HiveHandle handle;
        try
        {
            // The open descriptor by name: the file that was checked is the file that is read.
            handle = new HiveHandle(LibHivex.Open($"/proc/self/fd/{(rebuilt ?? file).DangerousGetHandle()}", flags));
        }
        catch (DllNotFoundException e)
        {
            throw NativeLibraries.Missing("libhivex", "libhivex.so.0", "libhivex0", e);
        }
        int error = Marshal.GetLastPInvokeError();
        return handle.IsInvalid
            ? throw new InvalidDataException($"is a damaged registry hive ({Marshal.GetPInvokeErrorMessage(error)})")
            : new Hive(handle, header);
    }

    /// <summary>The key at a path of names separated by backslashes, any case; null when it is not there.</summary>
    public HiveKey? Find(string path)
    {
        HiveKey? key = Root;
        foreach (string name in path.Split('\\', StringSplitOptions.RemoveEmptyEntries))
        {
            key = key.Value.Child(name);
            if (key is null)
                return null;
        }
        return key;
    }

    /// <summary>The key at a path; missing keys on the way, and the key itself, are added.</summary>
    public HiveKey Create(string path)
    {
        var key = Root;
        foreach (string name in path.Split('\\', StringSplitOptions.RemoveEmptyEntries))
            key = key.Child(name) ?? key.Add(name);
        return key;
    }

    /// <summary>The whole changed hive as a file in memory, for the caller to close.</summary>
    /// <exception cref="IOException">libhivex could not write it.</exception>
    public SafeFileHandle ToFile()
    {
        var memory = MemoryFile.Create();
        if (LibHivex.Commit(Handle, $"/proc/self/fd/{memory.DangerousGetHandle()}", 0) == 0)
            return memory;
        var failure = Failure("write the hive");
        memory.Dispose();
        throw failure;
    }

    /// <summary>The whole changed hive as the bytes of a file.</summary>
    /// <exception cref="IOException">libhivex could not write it.</exception>
    public byte[] ToArray()
    {
        using var memory = ToFile();
        return ReadAll(memory);
    }

    private static byte[] ReadAll(SafeFileHandle file)
    {
        byte[] bytes = new byte[RandomAccess.GetLength(file)];
        int done = 0;
        while (done < bytes.Length && RandomAccess.Read(file, bytes.AsSpan(done), done) is > 0 and int got)
            done += got;
        return bytes;
    }

    internal static IOException Failure(string what)
    {
        int error = Marshal.GetLastPInvokeError();
        return new IOException($"libhivex could not {what}: {Marshal.GetPInvokeErrorMessage(error)}");
    }

    public void Dispose() => Handle.Dispose();
}
