using System.Collections.Concurrent;
using System.ComponentModel;
using System.Diagnostics;
using System.Security.Cryptography;

namespace Moorfield.Formats.Disks;

/// <summary>A server of a virtual disk could not be started, or ended before it answered.</summary>
/// <param name="said">The server's own message.</param>
internal sealed class DiskServerException(string said) : IOException("its server did not start")
{
    internal string Said => said;
}

/*
   qemu-nbd exits when its only client disconnects, which the kernel sees to when this process ends. Until the client is there, the server
   would outlive a kill of this process and keep the disk locked: so it is started with a parent-death signal, and a shell between checks
   that the parent is still there once the signal is set. The signal comes when the thread ends that started it, hence the thread that never
   does. The server is in a session of its own: a Ctrl-C in the terminal is for this process to act on.
*/

/// <summary>Starts qemu-nbd, and ends it.</summary>
internal static class DiskServer
{
    private const string Program = "qemu-nbd";
    private const string FolderPrefix = "moorfield-disk-";
    private const string SocketName = "socket";
    private const int Digits = 32;
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(10);
    private static readonly TimeSpan Pause = TimeSpan.FromMilliseconds(2);
    private static readonly BlockingCollection<Action> Starts = [];
    private static readonly Lazy<Thread> Starter = new(() =>
    {
        var thread = new Thread(() =>
        {
            foreach (var start in Starts.GetConsumingEnumerable())
                start();
        })
        { IsBackground = true, Name = "starts disk servers" };
        thread.Start();
        return thread;
    });

    /// <summary>Starts a server and connects to it.</summary>
    /// <param name="arguments">That say what it serves, and how.</param>
    /// <exception cref="DiskServerException">It ended with a message.</exception>
    /// <exception cref="IOException">There is no qemu-nbd, no folder for its socket, or it does not answer.</exception>
    internal static NbdSource Start(IEnumerable<string> arguments)
    {
        Sweep();
        string folder = TemporaryPath.Combine(FolderPrefix + Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(Digits / 2)));
        Directory.CreateDirectory(folder, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
        using var held = OpenFolder(folder);
        _ = LibC.Lock(held, LibC.LockExclusive | LibC.LockNonBlocking);
        string socket = Path.Combine(folder, SocketName);
        Process? process = null;
        try
        {
            process = Begin([Program, "--socket=" + socket, .. arguments]);
            var said = process.StandardError.ReadToEndAsync();
            var source = Connect(process, said, socket);
            var server = process;
            source.Closed = () => End(server);
            process = null;
            return source;
        }
        finally
        {
            if (process is not null)
                End(process, atOnce: true);
            // Whoever is connected needs no name for it.
            Clear(folder);
        }
    }

    private static Process Begin(string[] command)
    {
        if (Find(Program) is null)
            throw new IOException($"is a virtual disk, which {Program} opens. Install the package {NativeLibraries.Package("qemu-utils")}");
        bool isBound = Find("setsid") is not null && Find("setpriv") is not null && Find("sh") is not null;
        string[] words = !isBound ? command :
        [
            "setsid", "setpriv", "--pdeathsig", "KILL", "--", "sh", "-c", "[ \"$PPID\" = \"$0\" ] && exec \"$@\"",
            Environment.ProcessId.ToString(CultureInfo.InvariantCulture), .. command,
        ];
        var start = new ProcessStartInfo(words[0], words[1..])
        {
            UseShellExecute = false,
            RedirectStandardError = true,
            RedirectStandardOutput = true,
            RedirectStandardInput = true,
        };
        _ = Starter.Value;
        var started = new TaskCompletionSource<Process>(TaskCreationOptions.RunContinuationsAsynchronously);
        Starts.Add(() =>
        {
            try
            {
                started.SetResult(Process.Start(start)!);
            }
            catch (Exception e) when (e is Win32Exception or InvalidOperationException)
            {
                started.SetException(new IOException($"could not be opened: {Program} cannot be started ({e.Message})", e));
            }
        });
        var process = started.Task.GetAwaiter().GetResult();
        process.StandardInput.Close();
        return process;
    }

    private static string? Find(string program) => (Environment.GetEnvironmentVariable("PATH") ?? "").Split(':')
        .Where(f => f.Length > 0).Select(f => Path.Combine(f, program)).FirstOrDefault(File.Exists);

    private static NbdSource Connect(Process process, Task<string> said, string socket)
    {
        var watch = Stopwatch.StartNew();
        while (true)
        {
            try
            {
                if (File.Exists(socket) && NbdSource.TryConnect(socket, Patience) is { } source)
                    return source;
            }
            catch (IOException) when (process.WaitForExit(Patience))
            {
                // it listens before it opens the disk, and ends when it cannot
            }
            if (process.HasExited)
                throw new DiskServerException(said.GetAwaiter().GetResult());
            if (watch.Elapsed > Patience)
                throw new IOException($"could not be opened: {Program} does not answer");
            Thread.Sleep(Pause);
        }
    }

    private static void End(Process process, bool atOnce = false)
    {
        using (process)
        {
            try
            {
                if (atOnce || !process.WaitForExit(Patience))
                    process.Kill();
                process.WaitForExit(Patience);
            }
            catch (InvalidOperationException)
            {
                // it has ended
            }
        }
    }

    private static SafeFileHandle OpenFolder(string path) =>
        LibC.Open([.. Encoding.UTF8.GetBytes(path), 0], LibC.ReadOnly | LibC.Directory | LibC.NoFollow | LibC.CloseOnExec, 0);

    /// <summary>Deletes the folders of servers whose process was killed before it had connected.</summary>
    private static void Sweep()
    {
        foreach (string left in Directory.GetDirectories(TemporaryPath.Folder, FolderPrefix + "*")
            .Where(d => Path.GetFileName(d)[FolderPrefix.Length..] is { Length: Digits } rest && rest.All(char.IsAsciiHexDigitLower)
                && Directory.GetLastWriteTimeUtc(d) < DateTime.UtcNow - Patience)) // a newer one may be about to be locked
        {
            using var folder = OpenFolder(left);
            if (!folder.IsInvalid && LibC.Lock(folder, LibC.LockExclusive | LibC.LockNonBlocking) == 0)
                Clear(left);
        }
    }

    private static void Clear(string folder)
    {
        try
        {
            File.Delete(Path.Combine(folder, SocketName));
            Directory.Delete(folder);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            // somebody else's, or somebody else was faster
        }
    }
}
