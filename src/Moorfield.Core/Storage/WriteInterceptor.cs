namespace Moorfield.Core.Storage;

/// <summary>The kinds of step in which a run alters a disk.</summary>
public enum WriteKind
{
    /// <summary>A file, folder or link is made.</summary>
    Create,
    /// <summary>Bytes are written.</summary>
    Write,
    /// <summary>A file is cut or lengthened.</summary>
    Truncate,
    /// <summary>Brings what was written to the disk.</summary>
    Flush,
    /// <summary>An entry gets another name.</summary>
    Rename,
    /// <summary>An entry goes.</summary>
    Delete,
    /// <summary>Owner, mode, times or attributes are set.</summary>
    Attributes,
}

/// <summary>
/// The one way to the disk for everything that alters a target or a vault: each single step passes here before it is made, so that a test
/// can fail or stop a run at each of them in turn.
/// </summary>
public sealed class WriteInterceptor
{
    private readonly Action<WriteKind, string>? _before;

    /// <param name="before">Called before each step; what it throws ends the run there.</param>
    public WriteInterceptor(Action<WriteKind, string>? before = null) : this(before, new FileSystemOperations())
    {
    }

    internal WriteInterceptor(Action<WriteKind, string>? before, FileSystemOperations disk)
    {
        _before = before;
        FileSystem = disk;
    }

    internal FileSystemOperations FileSystem { get; }

    internal void BeforeWrite(WriteKind kind, string name) => _before?.Invoke(kind, name);
}
