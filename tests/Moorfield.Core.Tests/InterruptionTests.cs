using Moorfield.Core.Volumes;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>
/// Stops or fails a run at each of its single writes in turn: afterwards the system is as before or as wanted, or it can be brought to
/// either from what is on the disk.
/// </summary>
public sealed class InterruptionTests : IDisposable
{
    private const string Packages = "Weather,Calculator";

    // All of them take some minutes; without this, every so many, from the first to the last.
    private static readonly bool EveryStep = Environment.GetEnvironmentVariable("MOORFIELD_EVERY_STEP") == "1";

    private static IEnumerable<int> Steps(int count, int stride) =>
        Enumerable.Range(1, count).Where(step => EveryStep || step % stride == 1 || step == count);

    private readonly TemporaryFolder _folder = new(inMemory: true);

    /// <summary>The power is cut: this step and all after it are not made, and nothing tidies up.</summary>
    private sealed class PowerCut : Exception;

    private static WriteSeam CutAt(int step)
    {
        int steps = 0;
        return new WriteSeam((_, _) =>
        {
            if (++steps >= step)
                throw new PowerCut();
        });
    }

    private static WriteSeam FailAt(int step)
    {
        int steps = 0;
        return new WriteSeam((_, name) =>
        {
            if (++steps == step)
                throw new MoorfieldException(Trouble.Failed, $"{name}: No space left on device.");
        });
    }

    private static int CountSteps(Action<WriteSeam> run)
    {
        int steps = 0;
        run(new WriteSeam((_, _) => steps++));
        return steps;
    }

    private Bench Fresh(string name) => new(Demo.CopyFewTo(_folder, name), _folder[name + "-vault"]);

    private void Discard(string name) => Tool.Read("rm", "-rf", _folder[name], _folder[name + "-vault"]);

    [Fact]
    public void A_removal_cut_off_anywhere_can_be_undone()
    {
        var model = Fresh("model");
        string before = VolumeState.Files(model.Root);
        int steps = CountSteps(seam => model.Remove(Packages, "everyone", seam));
        steps.ShouldBeGreaterThan(100);
        foreach (int step in Steps(steps, 11))
        {
            var bench = Fresh("cut");
            Should.Throw<PowerCut>(() => bench.Remove(Packages, "everyone", CutAt(step)));
            bool begun = bench.Interrupted() is not null;
            if (begun)
                bench.PutBack(1);
            else if (bench.Points().Count > 0 && bench.PlanUndo(1).HasEffect)
                bench.Undo(1); // cut off behind the last change
            Same(begun ? VolumeState.Files(bench.Root) : WithoutMarker(VolumeState.Files(bench.Root)), begun ? before : WithoutMarker(before), step);
            bench.Interrupted().ShouldBeNull();
            Discard("cut");
        }
    }

    [Fact]
    public void A_removal_cut_off_anywhere_can_be_finished()
    {
        var model = Fresh("model");
        int steps = CountSteps(seam => model.Remove(Packages, "everyone", seam));
        string wanted = VolumeState.Contents(model.Root);
        string names = Tool.Read("sh", "-c", "cd \"$0\" && find . | LC_ALL=C sort", model.Root);
        foreach (int step in Steps(steps, 29))
        {
            var bench = Fresh("cut");
            Should.Throw<PowerCut>(() => bench.Remove(Packages, "everyone", CutAt(step)));
            if (bench.Interrupted() is not null)
            {
                bench.Finish().Failures.ShouldBeEmpty();
                VolumeState.Contents(bench.Root).ShouldBe(wanted, $"step {step}");
                Tool.Read("sh", "-c", "cd \"$0\" && find . | LC_ALL=C sort", bench.Root).ShouldBe(names, $"step {step}");
            }
            Discard("cut");
        }
    }

    [Fact]
    public void An_undo_cut_off_anywhere_can_be_finished()
    {
        var model = Fresh("model");
        string before = VolumeState.Files(model.Root);
        model.Remove(Packages, "everyone");
        Tool.Read("cp", "-a", _folder["model"], _folder["removed"]);
        Tool.Read("cp", "-a", _folder["model-vault"], _folder["removed-vault"]);
        int steps = CountSteps(seam => model.Undo(1, seam: seam));
        Same(VolumeState.Files(model.Root), before, 0);
        foreach (int step in Steps(steps, 29))
        {
            Tool.Read("cp", "-a", _folder["removed"], _folder["cut"]);
            Tool.Read("cp", "-a", _folder["removed-vault"], _folder["cut-vault"]);
            var bench = new Bench(_folder["cut"], _folder["cut-vault"]);
            Should.Throw<PowerCut>(() => bench.Undo(1, seam: CutAt(step)));
            if (bench.Interrupted() is not null)
                bench.Finish().Failures.ShouldBeEmpty();
            else if (bench.PlanUndo(1).HasEffect)
                bench.Undo(1).Failures.ShouldBeEmpty();
            VolumeState.Contents(bench.Root).ShouldBe(VolumeState.Contents(model.Root), $"step {step}");
            Discard("cut");
        }
    }

    [Fact]
    public void A_write_that_fails_anywhere_loses_nothing()
    {
        var model = Fresh("model");
        string before = VolumeState.Files(model.Root);
        int steps = CountSteps(seam => model.Remove(Packages, "everyone", seam));
        foreach (int step in Steps(steps, 17))
        {
            var bench = Fresh("fail");
            try
            {
                bench.Run(bench.Plan(Packages, "everyone"), FailAt(step));
            }
            catch (Exception e) when (e is MoorfieldException or ShouldAssertException)
            {
                // refused, interrupted, or done in part: each may be
            }
            if (bench.Interrupted() is { } point)
                bench.PutBack(point);
            else if (bench.Points().Count > 0 && bench.PlanUndo(1).HasEffect)
                bench.Undo(1).Failures.ShouldBeEmpty();
            Same(WithoutMarker(VolumeState.Files(bench.Root)), WithoutMarker(before), step);
            Discard("fail");
        }
    }

    [Fact]
    public void A_file_that_something_else_changed_after_the_interruption_is_left_alone()
    {
        var model = Fresh("model");
        int steps = CountSteps(seam => model.Remove(Packages, "everyone", seam));
        var bench = Fresh("cut");
        Should.Throw<PowerCut>(() => bench.Remove(Packages, "everyone", CutAt(steps - 60)));
        bench.Interrupted().ShouldBe(1);
        HiveEdit.Change(bench.Software, hive => hive.Create(@"Saltmarsh\Later"));
        byte[] changed = File.ReadAllBytes(bench.Software);
        Should.Throw<MoorfieldException>(() => bench.Finish()).Trouble.ShouldBe(Trouble.Refused);
        File.ReadAllBytes(bench.Software).ShouldBe(changed);
        bench.Undo(1).Failures.ShouldBeEmpty();
        HiveEdit.HasKey(bench.Software, @"Saltmarsh\Later").ShouldBeTrue();
        bench.Read().Packages.ShouldContain(p => p.DisplayName == "Weather" && p.Accounts.Length == 3 && p.Newcomers && !p.Blocked);
    }

    // Cut off while the marker was being written, the next run takes away what there is of it; cut off right behind its deletion, the root
    // keeps the time of that.
    private static string WithoutMarker(string state) =>
        string.Join('\n', state.Split('\n').Where(l => !l.StartsWith(".|", StringComparison.Ordinal) && !l.Contains("./.moorfield-part", StringComparison.Ordinal)));

    private static void Same(string actual, string expected, int step)
    {
        if (actual != expected)
            string.Join('\n', actual.Split('\n').Except(expected.Split('\n')).Take(5)).ShouldBe(string.Join('\n', expected.Split('\n').Except(actual.Split('\n')).Take(5)), $"step {step}");
    }

    public void Dispose() => _folder.Dispose();
}
