using System.Collections.Concurrent;
using Moorfield.Core.Storage;

namespace Moorfield.Core.Vaults;

/// <summary>
/// Puts contents into a vault on a separate thread, one after the other: compressing takes longer than reading. Until <see cref="Finish"/>
/// nothing else may write to the vault.
/// </summary>
internal sealed class BackgroundBlobWriter : IDisposable
{
    // Contents that wait are in memory.
    private const long MaxWaiting = 64L << 20;
    private readonly BlockingCollection<Waiting> _waiting = [];
    private readonly CancellationTokenSource _stop = new();
    private readonly object _gate = new();
    private readonly Task _worker;
    private long _bytes;
    private volatile bool _ended;

    internal BackgroundBlobWriter(Vault vault) => _worker = Task.Factory.StartNew(
        () => Work(vault), CancellationToken.None, TaskCreationOptions.LongRunning, TaskScheduler.Default);

    /// <summary>Takes a content over, to be kept.</summary>
    /// <returns>Waits until it is, and gives the name that it is kept under.</returns>
    internal Func<string> Keep(InMemoryContent content)
    {
        var waiting = new Waiting(content);
        lock (_gate)
        {
            while (!_ended && _bytes > 0 && _bytes + content.Length > MaxWaiting)
                Monitor.Wait(_gate);
            _bytes += content.Length;
        }
        if (_ended)
            Finish(); // tells why
        _waiting.Add(waiting);
        return () => NameOf(waiting);
    }

    private string NameOf(Waiting waiting)
    {
        lock (_gate)
        {
            while (waiting.Name is null && !_ended)
                Monitor.Wait(_gate);
        }
        if (waiting.Name is null)
            Finish(); // tells why
        return waiting.Name!;
    }

    private void Work(Vault vault)
    {
        try
        {
            foreach (var waiting in _waiting.GetConsumingEnumerable(_stop.Token))
            {
                using (waiting.Content)
                {
                    waiting.Name = vault.Keep(waiting.Content.ForEachPiece);
                    Done(waiting.Content.Length);
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
            // reported by Finish, or irrelevant by now
        }
        while (_waiting.TryTake(out var left))
            left.Content.Dispose();
        _waiting.Dispose();
        _stop.Dispose();
    }

    private sealed class Waiting(InMemoryContent content)
    {
        internal InMemoryContent Content => content;

        internal volatile string? Name;
    }
}
