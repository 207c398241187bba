namespace Moorfield.Core.Storage;

/// <summary>
/// Lets workers that began in the order of their numbers do the last part of their work one after another, in that order: what they write does not
/// depend on which of them was faster.
/// </summary>
internal sealed class Turns
{
    private readonly object _gate = new();
    private int _next;
    private bool _isBroken;

    /// <param name="number">From 0; each once.</param>
    /// <param name="work">Given a wait for its turn, which ends with false when a worker before it has failed: then nothing may be written.</param>
    internal T Take<T>(int number, Func<Func<bool>, T> work)
    {
        try
        {
            var result = work(() => Wait(number));
            Wait(number);
            return result;
        }
        catch
        {
            lock (_gate)
                _isBroken = true;
            throw;
        }
        finally
        {
            lock (_gate)
            {
                _next = Math.Max(_next, number + 1);
                Monitor.PulseAll(_gate);
            }
        }
    }

    private bool Wait(int number)
    {
        lock (_gate)
        {
            while (_next < number && !_isBroken)
                Monitor.Wait(_gate);
            return !_isBroken;
        }
    }
}
