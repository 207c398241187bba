namespace Moorfield.Core.Volumes;

/// <summary>The kinds of step in which a run alters a disk.</summary>
public enum WriteKind
{
    Create,
    Write,
    Truncate,
    Flush,
    Rename,
    Delete,
    Attributes,
}

/// <summary>
/// The one way to the disk for everything that alters a target or a vault: each single step passes here before it is made, so that a test
/// can fail or stop a run at each of them in turn.
/// </summary>
/// <param name="before">Called before each step; what it throws ends the run there.</param>
public sealed class WriteSeam(Action<WriteKind, string>? before = null)
{
    internal void Pass(WriteKind kind, string name) => before?.Invoke(kind, name);
}
