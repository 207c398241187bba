using System.Collections.Concurrent;
using Microsoft.Win32.SafeHandles;
using Moorfield.Core.Trees;

namespace Moorfield.Core.Vaults;

/// <summary>
/// Puts contents into a vault on a thread of its own, one after the other: compressing takes longer than reading. Until <see cref="Finish"/>
/// nothing else may write to the vault.
/// </summary>
internal sealed class KeptBehind : IDisposable
{
    // Contents that wait are in memory.
    private const long MostWaiting = 128L << 20;
    private readonly BlockingCollection<(SafeFileHandle Content, string Hash)> _waiting = [];
    private readonly CancellationTokenSource _stop = new();
    private readonly object _gate = new();
    private readonly Task _worker;
    private long _bytes;
    private volatile bool _ended;

    internal KeptBehind(Vault vault) => _worker = Task.Factory.StartNew(
        () => Work(vault), CancellationToken.None, TaskCreationOptions.LongRunning, TaskScheduler.Default);

    /// <summary>Takes a content, which the caller goes on to own, and gives the name that it will be kept under.</summary>
    internal string Keep(SafeFileHandle content)
    {
        string hash = FileContent.HashOf(content);
        long length = RandomAccess.GetLength(content);
        lock (_gate)
        {
            while (!_ended && _bytes > 0 && _bytes + length > MostWaiting)
                Monitor.Wait(_gate);
            _bytes += length;
        }
        if (_ended)
            Finish(); // tells why
        _waiting.Add((FileContent.Again(content), hash));
        return hash;
    }

    private void Work(Vault vault)
    {
        try
        {
            foreach (var (content, hash) in _waiting.GetConsumingEnumerable(_stop.Token))
            {
                using (content)
                {
                    if (vault.Keep(content) != hash)
                        throw new InvalidOperationException("A file in memory changed while it was kept.");
                    Done(RandomAccess.GetLength(content));
                }
            }
        }
        finally
        {
            _ended = true;
            Done(0);
        }
    }

    private void Done(long bytes)
    {
        lock (_gate)
        {
            _bytes -= bytes;
            Monitor.PulseAll(_gate);
        }
    }

    /// <summary>Waits until all is in the vault.</summary>
    /// <exception cref="Model.MoorfieldException">Something could not be written to it.</exception>
    internal void Finish()
    {
        _waiting.CompleteAdding();
        _worker.GetAwaiter().GetResult();
    }

    public void Dispose()
    {
        _stop.Cancel();
        try
        {
            _worker.Wait();
        }
        catch (AggregateException)
        {
            // told by Finish, or of no account any more
        }
        while (_waiting.TryTake(out var left))
            left.Content.Dispose();
        _waiting.Dispose();
        _stop.Dispose();
    }
}
