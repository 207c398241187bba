using System.Security.Cryptography;

namespace Moorfield.Core.Storage;

/// <summary>
/// A folder for work that is under way, deleted when it is closed. It is made under a random name, and locked as long as it is open: a folder
/// of such a name that nobody has locked was left by an interrupted run, and is deleted first. Nothing else is touched.
/// </summary>
internal sealed class WorkFolder : IDisposable
{
    private const int Digits = 32;
    private readonly Folder _parent;
    private readonly Folder _folder;
    private readonly string _name;
    private readonly FileLock? _lock;

    /// <param name="parent">The folder to make it in.</param>
    /// <param name="purpose">The beginning of its name, which says what the work is for.</param>
    /// <exception cref="MoorfieldException">Another run is at work for the same purpose (refused), or it cannot be made.</exception>
    internal WorkFolder(string parent, string purpose, WriteInterceptor interceptor)
    {
        _parent = Folder.Open(parent, interceptor);
        try
        {
            foreach (string left in _parent.Names().Where(n => IsOwn(n, purpose)))
                Clear(left);
            _name = $"{purpose}-{Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(Digits / 2))}";
            _parent.MakeFolder(_name);
            _folder = _parent.OpenFolder(_name) ?? throw new MoorfieldException(ErrorKind.Failed, $"{Path.Combine(parent, _name)} is gone.");
            _lock = FileLock.TryTake(_folder);
            FullPath = Path.Combine(Path.GetFullPath(parent), _name);
        }
        catch
        {
            _parent.Dispose();
            throw;
        }
    }

    internal string FullPath { get; }

    /// <summary>One next to a file or folder that is being made.</summary>
    /// <param name="full">Full path of what is made.</param>
    /// <exception cref="MoorfieldException">As for making one, or there is no folder to make it in (misused).</exception>
    internal static WorkFolder For(string full, WriteInterceptor interceptor)
    {
        string parent = Path.GetDirectoryName(full)!;
        return Directory.Exists(parent) ? new WorkFolder(parent, $".{Path.GetFileName(full)}.moorfield-build", interceptor)
            : throw new MoorfieldException(ErrorKind.InvalidUsage, $"There is no folder {parent}.");
    }

    internal void MakeFolder(string name) => _folder.MakeFolder(name, 0x1ED);

    /// <summary>Gives something that was made here its place next to this folder, and brings that to the disk.</summary>
    /// <param name="name">Of what was made.</param>
    /// <param name="to">The name that it gets; null for the same.</param>
    /// <param name="replaces">True if a regular file of that name may be replaced.</param>
    /// <param name="from">The folder that it is in; null for this one.</param>
    /// <exception cref="MoorfieldException">The name is taken (misused), or it cannot be moved; then it is still here.</exception>
    internal void MoveOut(string name, string? to = null, bool replaces = false, string? from = null)
    {
        to ??= name;
        if (_parent.Stat(to) is { } there && !(replaces && there.Kind == EntryKind.File))
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{Path.Combine(Path.GetDirectoryName(FullPath)!, to)} is there already.");
        using var folder = from is null ? null : _folder.OpenFolder(from);
        (folder ?? _folder).Rename(name, to, _parent);
        _parent.Flush();
    }

    /// <summary>Takes back something that was moved out.</summary>
    internal void MoveBack(string name, string? to = null)
    {
        using var folder = to is null ? null : _folder.OpenFolder(to);
        _parent.Rename(name, name, folder ?? _folder);
    }

    private static bool IsOwn(string name, string purpose) => name.Length == purpose.Length + 1 + Digits
        && name.StartsWith(purpose + "-", StringComparison.Ordinal) && name[^Digits..].All(char.IsAsciiHexDigitLower);

    private void Clear(string left)
    {
        using (var folder = _parent.OpenFolder(left))
        {
            if (folder is null)
                return; // a link, or something else: not made here
            using var held = FileLock.TryTake(folder);
            if (held is null)
            {
                throw new MoorfieldException(RefusalReason.InUse,
                    $"Another run is at work in {_parent.Display(left)}. Nothing was written.");
            }
        }
        _parent.DeleteTree(left);
    }

    public void Dispose()
    {
        // Closed first: NFS keeps under another name what is deleted while it is open.
        _lock?.Dispose();
        // What cannot be deleted, even when it is tried once more, is left for the next run of the same purpose.
        for (int tries = 0; tries < 2; tries++)
        {
            try
            {
                _parent.DeleteTree(_name);
                break;
            }
            catch (Exception e) when (e is MoorfieldException or IOException)
            {
                // the work itself has ended as it has
            }
        }
        _folder.Dispose();
        _parent.Dispose();
    }
}
