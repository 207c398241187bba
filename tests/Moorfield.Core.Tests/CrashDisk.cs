using System.Runtime.InteropServices;
using System.Text;
using Microsoft.Win32.SafeHandles;
using Moorfield.Core.Model;
using Moorfield.Core.Storage;
using Moorfield.Formats.Native;
using Moorfield.Tests;
using IO = System.IO;

namespace Moorfield.Core.Tests;

/// <summary>The power is cut: the step at hand and all after it are not made, and nothing tidies up.</summary>
internal sealed class PowerCut : Exception;

/// <summary>
/// A disk that loses what was not flushed. Everything is done at once, so that a run reads what it wrote; what would still be in memory is
/// remembered with what was there before. At the cut a seeded choice of that is kept, lost, or, for contents, torn by sectors of 512 bytes.
/// Flushing a file makes its content, length and facts safe, not its name; flushing a folder makes its names safe, in the order in which they
/// were altered; flushing the file system, everything on it: a vault counts as lying on another one than the target.
/// </summary>
internal sealed partial class CrashDisk : FileSystemOperations, IDisposable
{
    private const int Sector = 512;
    private readonly string _stash;
    private readonly List<Step> _steps = [];
    private readonly Dictionary<ulong, Content> _contents = [];
    private readonly Dictionary<ulong, SafeFileHandle> _folders = [];
    private int _number;

    /// <param name="stash">A folder on the same file system, which must not be there yet.</param>
    internal CrashDisk(string stash)
    {
        _stash = IO.Directory.CreateDirectory(stash).FullName;
    }

    /// <summary>Cuts the power before a step, and loses a choice of what was not flushed.</summary>
    /// <param name="stash">As for making one.</param>
    /// <returns>Whether the power was cut; false when all was done before.</returns>
    internal static bool Crash(string stash, Action<WriteInterceptor> run, int step, int seed)
    {
        using var disk = new CrashDisk(stash);
        int steps = 0;
        bool cut = false;
        try
        {
            run(new WriteInterceptor((_, _) =>
            {
                if (++steps >= step)
                    throw new PowerCut();
            }, disk));
        }
        catch (PowerCut)
        {
            cut = true;
        }
        disk.Cut(seed);
        return cut;
    }

    /// <summary>Something that was done to names or facts and is not safe yet.</summary>
    /// <param name="Keys">The folders and files whose flushing makes it safe: any of them.</param>
    /// <param name="Gone">The folder that was removed, or 0: its loss of steps brings it back.</param>
    /// <param name="Made">The file or folder that was made, or 0: nothing of it is there without it.</param>
    /// <param name="InVault">On which of the two file systems.</param>
    private sealed record Step(ulong[] Keys, Action Revert, ulong Gone = 0, ulong Made = 0, bool InVault = false);

    private sealed record Content(SafeFileHandle File, byte[] Before, FileTime Modified, bool InVault);

    private static bool IsInVault(SafeFileHandle file) =>
        IO.File.ResolveLinkTarget($"/proc/self/fd/{file.DangerousGetHandle()}", returnFinalTarget: false)?.FullName.Contains("vault",
            StringComparison.Ordinal) == true;

    /// <summary>How many steps and contents are not safe.</summary>
    internal int Unsafe => _steps.Count + _contents.Count;

    internal override void Write(SafeFileHandle file, ReadOnlySpan<byte> bytes, long offset)
    {
        Remember(file);
        base.Write(file, bytes, offset);
    }

    internal override int Truncate(SafeFileHandle file, long length)
    {
        Remember(file);
        return base.Truncate(file, length);
    }

    internal override SafeFileHandle Create(SafeFileHandle folder, byte[] name, uint mode)
    {
        var times = Times(folder, Here);
        var file = base.Create(folder, name, mode);
        ulong key = Key(folder);
        if (!file.IsInvalid)
            Add(folder, new Step([key], () => Native.unlinkat(Open(key), name, 0), Made: Facts(file).Inode), times);
        return file;
    }

    internal override int MakeFolder(SafeFileHandle parent, byte[] name, uint mode)
    {
        var times = Times(parent, Here);
        int result = base.MakeFolder(parent, name, mode);
        ulong key = Key(parent);
        if (result == 0)
            Add(parent, new Step([key], () => Tool.Read("rm", "-rf", PathOf(key, name)), Made: Facts(parent, name)!.Value.Inode), times);
        return result;
    }

    internal override int MakeLink(SafeFileHandle folder, byte[] name, ReadOnlySpan<byte> target)
    {
        var times = Times(folder, Here);
        int result = base.MakeLink(folder, name, target);
        ulong key = Key(folder);
        if (result == 0)
            Add(folder, new Step([key], () => Native.unlinkat(Open(key), name, 0)), times);
        return result;
    }

    internal override int Delete(SafeFileHandle folder, byte[] name, bool isFolder)
    {
        var times = Times(folder, Here);
        ulong key = Key(folder);
        if (Facts(folder, name) is not { } facts)
            return base.Delete(folder, name, isFolder);
        if (!isFolder)
        {
            string kept = Stash(folder, name);
            int deleted = base.Delete(folder, name, isFolder: false);
            Add(folder, new Step([key], () => Native.renameat(-100, Bytes(kept), Open(key), name)), times);
            return deleted;
        }
        int result = base.Delete(folder, name, isFolder: true);
        if (result == 0)
        {
            Add(folder, new Step([key], () =>
            {
                Native.mkdirat(Open(key), name, facts.Mode & 0xFFFu);
                Native.fchmodat(Open(key), name, facts.Mode & 0xFFFu, 0);
                base.SetOwner(Open(key), name, facts.Uid, facts.Gid);
                base.SetTimes(Open(key), name, new(facts.Access.Seconds, facts.Access.Nanoseconds),
                    new(facts.Modification.Seconds, facts.Modification.Nanoseconds));
                _folders[facts.Inode] = Directory(Open(key), name);
            }, Gone: facts.Inode), times);
        }
        return result;
    }

    internal override int Rename(SafeFileHandle fromFolder, byte[] from, SafeFileHandle toFolder, byte[] to)
    {
        var fromTimes = Times(fromFolder, Here);
        var toTimes = Times(toFolder, Here);
        string? replaced = Facts(toFolder, to) is null ? null : Stash(toFolder, to);
        int result = base.Rename(fromFolder, from, toFolder, to);
        if (result != 0)
            return result;
        ulong source = Key(fromFolder);
        ulong target = Key(toFolder);
        var step = new Step(source == target ? [source] : [source, target], () =>
        {
            Native.renameat(Open(target), to, Open(source), from);
            if (replaced is not null)
                Native.renameat(-100, Bytes(replaced), Open(target), to);
        });
        Add(fromFolder, step with { Revert = () => { step.Revert(); base.SetTimes(Open(target), Here, toTimes.Accessed, toTimes.Modified); } },
            fromTimes);
        return result;
    }

    internal override int SetTimes(SafeFileHandle folder, byte[] name, FileTime accessed, FileTime modified)
    {
        RememberFacts(folder, name);
        return base.SetTimes(folder, name, accessed, modified);
    }

    internal override int SetMode(SafeFileHandle folder, byte[] name, uint mode)
    {
        RememberFacts(folder, name);
        return base.SetMode(folder, name, mode);
    }

    internal override int Flush(SafeFileHandle file)
    {
        Settle(Facts(file).Inode);
        return base.Flush(file);
    }

    internal override int FlushFileSystem(SafeFileHandle anyFile)
    {
        bool inVault = IsInVault(anyFile);
        _steps.RemoveAll(s => s.InVault == inVault);
        foreach (ulong key in _contents.Where(c => c.Value.InVault == inVault).Select(c => c.Key).ToList())
        {
            _contents.Remove(key, out var content);
            content!.File.Dispose();
        }
        return 0; // the real one would wait for every disk of the machine
    }

    /// <summary>Cuts the power.</summary>
    /// <param name="seed">Of the choice of what is lost.</param>
    internal void Cut(int seed)
    {
        var random = new Random(seed);
        double losing = new[] { 0, 0.02, 0.2, 1 }[random.Next(4)];
        var halted = new HashSet<ulong>();
        var lost = new List<Step>();
        foreach (var step in _steps)
        {
            bool stays = !step.Keys.Any(halted.Contains) && !halted.Contains(step.Gone) && random.NextDouble() >= losing;
            if (stays)
                continue;
            halted.UnionWith(step.Keys);
            if (step.Made != 0)
                halted.Add(step.Made);
            lost.Add(step);
        }
        foreach (var content in _contents.Values)
            Tear(content, random);
        for (int i = lost.Count - 1; i >= 0; i--)
            lost[i].Revert();
        Forget();
    }

    private void Tear(Content content, Random random)
    {
        byte[] now = FileContent.ReadAll(content.File);
        int fate = random.Next(3);
        if (fate == 0)
            return; // all of it reached the disk
        byte[] result = new byte[random.Next(2) == 0 ? now.Length : content.Before.Length];
        for (int start = 0; start < result.Length; start += Sector)
        {
            int length = Math.Min(Sector, result.Length - start);
            byte[] chosen = fate == 2 && random.Next(2) == 0 ? now : content.Before;
            // A sector that was written only in part keeps the rest of what it held.
            for (int i = start; i < start + length; i++)
                result[i] = i < chosen.Length ? chosen[i] : chosen == now && i < content.Before.Length ? content.Before[i] : (byte)0;
        }
        LibC.Truncate(content.File, 0);
        RandomAccess.Write(content.File, result, 0);
        if (random.Next(2) == 0)
            SetTimes(content.File, content.Modified);
    }

    private void Forget()
    {
        _steps.Clear();
        foreach (var content in _contents.Values)
            content.File.Dispose();
        _contents.Clear();
    }

    /// <summary>What the flushing of a file or folder makes safe, and with the removal of a folder all that was done in it.</summary>
    private void Settle(ulong key)
    {
        if (_contents.Remove(key, out var content))
            content.File.Dispose();
        var gone = _steps.Where(s => s.Keys.Contains(key) && s.Gone != 0).Select(s => s.Gone).ToList();
        _steps.RemoveAll(s => s.Keys.Contains(key));
        gone.ForEach(Settle);
    }

    private void Add(SafeFileHandle folder, Step step, (FileTime Accessed, FileTime Modified) times)
    {
        ulong key = Key(folder);
        _steps.Add(step with { InVault = IsInVault(folder),
            Revert = () => { step.Revert(); base.SetTimes(Open(key), Here, times.Accessed, times.Modified); } });
    }

    private void Remember(SafeFileHandle file)
    {
        var facts = Facts(file);
        if (_contents.ContainsKey(facts.Inode))
            return;
        var own = LibC.Open(Bytes($"/proc/self/fd/{file.DangerousGetHandle()}"), LibC.ReadWrite | LibC.CloseOnExec, 0);
        _contents[facts.Inode] = new Content(own, FileContent.ReadAll(own), new(facts.Modification.Seconds, facts.Modification.Nanoseconds),
            IsInVault(own));
    }

    private void RememberFacts(SafeFileHandle folder, byte[] name)
    {
        if (Facts(folder, name) is not { } facts || (facts.Mode & 0xF000) == 0xA000)
            return;
        var entry = LibC.OpenAt(folder, name, LibC.ReadOnly | LibC.NoFollow | LibC.CloseOnExec, 0);
        var times = (new FileTime(facts.Access.Seconds, facts.Access.Nanoseconds),
            new FileTime(facts.Modification.Seconds, facts.Modification.Nanoseconds));
        _steps.Add(new Step([facts.Inode], () =>
        {
            Native.fchmod((int)entry.DangerousGetHandle(), facts.Mode & 0xFFFu);
            SetTimes(entry, times.Item2);
        }, InVault: IsInVault(folder)));
    }

    private static unsafe void SetTimes(SafeFileHandle file, FileTime modified)
    {
        var times = stackalloc LibC.TimeSpec[2];
        times[0] = new() { Seconds = modified.Seconds, Nanoseconds = modified.Nanoseconds };
        times[1] = times[0];
        LibC.SetTimesAt(file, Bytes($"/proc/self/fd/{file.DangerousGetHandle()}"), times, 0);
    }

    private string Stash(SafeFileHandle folder, byte[] name)
    {
        string kept = Path.Combine(_stash, $"{_number++}");
        Native.linkat((int)folder.DangerousGetHandle(), name, -100, Bytes(kept), 0);
        return kept;
    }

    private ulong Key(SafeFileHandle folder)
    {
        ulong key = Facts(folder).Inode;
        if (!_folders.ContainsKey(key))
            _folders[key] = Directory(folder, Here);
        return key;
    }

    private SafeFileHandle Open(ulong key) => _folders[key];

    private string PathOf(ulong key, byte[] name) =>
    $"/proc/{Environment.ProcessId}/fd/{_folders[key].DangerousGetHandle()}/{Encoding.UTF8.GetString(name).TrimEnd('\0')}";

    private static readonly byte[] Here = [(byte)'.', 0];

    private static byte[] Bytes(string path) => [.. Encoding.UTF8.GetBytes(path), 0];

    private static SafeFileHandle Directory(SafeFileHandle folder, byte[] name) =>
    LibC.OpenAt(folder, name, LibC.ReadOnly | LibC.Directory | LibC.CloseOnExec, 0);

    private static (FileTime Accessed, FileTime Modified) Times(SafeFileHandle folder, byte[] name) => Facts(folder, name) is { } facts
        ? (new(facts.Access.Seconds, facts.Access.Nanoseconds), new(facts.Modification.Seconds, facts.Modification.Nanoseconds)) : default;

    private static LibC.Statx Facts(SafeFileHandle file)
    {
        LibC.StatxAt(file, "\0"u8, LibC.EmptyPath, LibC.StatxBasic, out var facts);
        return facts;
    }

    private static LibC.Statx? Facts(SafeFileHandle folder, byte[] name) =>
    LibC.StatxAt(folder, name, LibC.SymlinkNoFollow, LibC.StatxBasic, out var facts) == 0 ? facts : null;

    public void Dispose()
    {
        Forget();
        foreach (var folder in _folders.Values)
            folder.Dispose();
        Tool.Read("rm", "-rf", _stash);
    }

    private static class Native
    {
        [DllImport("libc.so.6")]
        internal static extern int linkat(int fromFolder, byte[] from, int toFolder, byte[] to, int flags);

        [DllImport("libc.so.6")]
        internal static extern int renameat(int fromFolder, byte[] from, SafeFileHandle toFolder, byte[] to);

        [DllImport("libc.so.6")]
        internal static extern int renameat(SafeFileHandle fromFolder, byte[] from, SafeFileHandle toFolder, byte[] to);

        [DllImport("libc.so.6")]
        internal static extern int unlinkat(SafeFileHandle folder, byte[] name, int flags);

        [DllImport("libc.so.6")]
        internal static extern int mkdirat(SafeFileHandle folder, byte[] name, uint mode);

        [DllImport("libc.so.6")]
        internal static extern int fchmodat(SafeFileHandle folder, byte[] name, uint mode, int flags);

        [DllImport("libc.so.6")]
        internal static extern int fchmod(int file, uint mode);
    }
}
