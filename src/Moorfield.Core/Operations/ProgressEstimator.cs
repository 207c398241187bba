namespace Moorfield.Core.Operations;

/// <summary>How far a long work is.</summary>
/// <param name="Step">The present step.</param>
/// <param name="Done">Of the whole, from 0 to 1.</param>
/// <param name="Left">How long it will take from now on, if it goes on like this; null when that is not known yet.</param>
public sealed record WorkProgress(string Step, double Done, TimeSpan? Left);

/// <summary>Measures a work of several steps, whose shares are guessed beforehand.</summary>
/// <param name="steps">In their order, with the share of each in any unit.</param>
/// <param name="report">Called with the progress, from the thread that works.</param>
public sealed class ProgressEstimator(IReadOnlyList<(string Step, double Share)> steps, TimeProvider clock, Action<WorkProgress> report)
{
    private const double MinDone = 0.03;
    private static readonly TimeSpan MinTime = TimeSpan.FromSeconds(2);
    private readonly double _whole = steps.Sum(s => s.Share);
    private readonly long _begun = clock.GetTimestamp();
    private int _step = -1;

    /// <summary>Begins the next step.</summary>
    public void Next()
    {
        _step++;
        At(0, 1);
    }

    /// <summary>Says how far the step is.</summary>
    public void At(long done, long whole)
    {
        double before = steps.Take(_step).Sum(s => s.Share);
        double part = whole > 0 ? Math.Clamp((double)done / whole, 0, 1) : 0;
        double all = (before + (steps[_step].Share * part)) / _whole;
        var elapsed = clock.GetElapsedTime(_begun);
        report(new WorkProgress(steps[_step].Step, all, all < MinDone || elapsed < MinTime ? null : elapsed * ((1 - all) / all)));
    }
}
