using Moorfield.Core.Model;
using Moorfield.Core.Storage;
using Moorfield.Core.Transactions;
using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>
/// Cuts the power, or lets a write fail, at the single steps of runs, of undos, and of what puts those right, on a disk that loses what was not
/// flushed: afterwards the system is as before or as wanted, or it is brought to either from what is on the disk.
/// </summary>
public sealed class InterruptionTests : IDisposable
{
    private const string Packages = "Weather,Calculator";

    private static readonly int Seed = int.TryParse(Environment.GetEnvironmentVariable("MOORFIELD_SEED"), out int seed) ? seed : Random.Shared.Next();

    private readonly Random _random = new(Seed);
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly ITestOutputHelper _output;
    private int _number;

    public InterruptionTests(ITestOutputHelper output)
    {
        _output = output;
        _output.WriteLine($"MOORFIELD_SEED={Seed}");
    }

    private IEnumerable<int> Sample(int count, int size) =>
        Thorough.EveryStep ? Enumerable.Range(1, count)
            : Enumerable.Range(0, size).Select(i => 1 + (int)((i + _random.NextDouble()) * count / size)).Select(s => Math.Min(s, count)).Distinct();

    private static WriteInterceptor CutAt(int step, CrashDisk disk)
    {
        int steps = 0;
        return new WriteInterceptor((_, name) =>
        {
            if (IsCounted(name) && ++steps >= step)
                throw new PowerCut();
        }, disk);
    }

    // Whether the vault lacks a folder for a content hangs on the content's digest, and so on times and random names in it: two runs that are
    // alike differ by such steps, and the last steps of the one would not be there in the other.
    private static bool IsCounted(string name) =>
        !(Path.GetFileName(name).Length == 2 && Path.GetFileName(Path.GetDirectoryName(name)) == "blobs");

    private static WriteInterceptor FailAt(int step)
    {
        int steps = 0;
        return new WriteInterceptor((_, name) =>
        {
            if (IsCounted(name) && ++steps == step)
                throw new MoorfieldException(ErrorKind.Failed, $"{name}: No space left on device.");
        });
    }

    private static int CountSteps(Action<WriteInterceptor> run)
    {
        int steps = 0;
        run(new WriteInterceptor((_, name) => steps += IsCounted(name) ? 1 : 0));
        steps.ShouldBeGreaterThan(50);
        return steps;
    }

    /// <summary>Lets something run until the power is cut, and loses what was not flushed.</summary>
    /// <param name="seed">Of what is lost; null when only the program was killed.</param>
    /// <returns>Whether the power was cut; false when it ended before.</returns>
    private bool Crash(Action<WriteInterceptor> run, int step, int? seed)
    {
        using var disk = new CrashDisk(_folder[$"stash{_number++}"]);
        bool cut = false;
        try
        {
            run(CutAt(step, disk));
        }
        catch (PowerCut)
        {
            cut = true;
        }
        if (seed is { } choice)
            disk.Cut(choice);
        return cut;
    }

    /// <summary>Makes one folder what another is, with its vault; the folder itself stays, so that the target is the same one.</summary>
    private Bench Copy(string of, string name)
    {
        Tool.Read("sh", "-c",
        "rm -rf \"$1-vault\" && mkdir -p \"$1\" && find \"$1\" -mindepth 1 -delete && cp -a \"$0/.\" \"$1/\" && { [ ! -d \"$0-vault\" ] || cp -a "
            + "\"$0-vault\" \"$1-vault\"; }", _folder[of], _folder[name]);
        return new Bench(_folder[name], _folder[name + "-vault"]);
    }

    private Bench Original()
    {
        Demo.CopyFewTo(_folder, "original");
        return Copy("original", "cut");
    }

    /// <summary>What 'undo' does on a target whose marker says that a run was interrupted, until the marker is gone.</summary>
    private static void RecoverInterrupted(Bench bench, WriteInterceptor interceptor)
    {
        while (bench.Interrupted() is { } point)
        {
            if (bench.Kind(point) == RunKind.Undo)
                bench.Finish(interceptor).Failures.ShouldBeEmpty();
            else if (bench.PlanUndo(point).HasEffect)
                bench.Undo(point, interceptor: interceptor).Failures.ShouldBeEmpty();
            else
                bench.Close(point, interceptor);
        }
    }

    private static void RecoverInterrupted(Bench bench) => RecoverInterrupted(bench, new WriteInterceptor());

    /// <summary>Something that may be done about an interrupted run.</summary>
    private static void GoOn(Bench bench, WriteInterceptor interceptor, string way)
    {
        if (bench.Interrupted() is not { } point)
            return;
        if (way == "finish")
            bench.Finish(interceptor).Failures.ShouldBeEmpty();
        else if (way == "undo" || bench.Kind(point) != RunKind.Undo)
            RecoverInterrupted(bench, interceptor);
        else
            Should.Throw<MoorfieldException>(() => bench.PlanUndo(point)).Kind.ShouldBe(ErrorKind.Refused); // half of a run is nothing to go back to
    }

    // The root's own time is that of the marker's deletion, when the power went right behind it.
    private static string WithoutRoot(string state) => string.Join('\n', state.Split('\n').Where(l => !l.StartsWith(".|", StringComparison.Ordinal)));

    private static void Same(Bench bench, string expected, string what)
    {
        string actual = WithoutRoot(VolumeState.Files(bench.Root));
        expected = WithoutRoot(expected);
        if (actual != expected)
            string.Join('\n', actual.Split('\n').Except(expected.Split('\n')).Take(5))
                .ShouldBe(string.Join('\n', expected.Split('\n').Except(actual.Split('\n')).Take(5)), what);
    }

    /// <summary>Nothing of a run is left lying about.</summary>
    private void NothingLeft(Bench bench)
    {
        bench.Interrupted().ShouldBeNull();
        Tool.Read("find", bench.Root, "-name", ".moorfield*").ShouldBeEmpty();
    }

    [Fact]
    public void A_removal_cut_off_anywhere_can_be_undone()
    {
        var model = Original();
        string before = VolumeState.Files(model.Root);
        int steps = CountSteps(interceptor => model.Remove(Packages, "everyone", interceptor, more: Bench.WithPrograms));
        int begun = 0;
        int untouched = 0;
        foreach (int step in Sample(steps, 20))
        {
            int seed = _random.Next();
            var bench = Copy("original", "cut");
            Crash(interceptor => bench.Remove(Packages, "everyone", interceptor, more: Bench.WithPrograms), step, seed).ShouldBeTrue();
            bool marked = bench.Interrupted() is not null;
            (marked ? ref begun : ref untouched)++;
            bench.ClearParts();
            RecoverInterrupted(bench);
            // Without a marker nothing was changed yet, or all of it was, and the power went as the marker did.
            if (!marked && bench.Points() is [{ State: PointState.InEffect }])
                bench.Undo(1).Failures.ShouldBeEmpty();
            Same(bench, before, $"step {step} of {steps}, seed {seed}");
            bench.Points().ShouldAllBe(p => p.State != PointState.Interrupted
                && (p.Point.Kind == RunKind.Undo || p.State == PointState.Undone || p.State == PointState.NotTaken), $"step {step}, seed {seed}");
            NothingLeft(bench);
        }
        begun.ShouldBeGreaterThan(0);
        untouched.ShouldBeGreaterThan(0);
    }

    [Theory]
    [InlineData("bring back")]
    [InlineData("bring back and finish")]
    [InlineData("go back to a state")]
    public void What_brings_back_and_is_cut_off_anywhere_is_undone_or_carried_on(string what)
    {
        // Without Weather and Calculator, which come back.
        var bench = Original();
        Demo.CopyFewTo(_folder, "other");
        bench.Create();
        bench.Remove(Packages, "everyone", more: Bench.WithPrograms).Failures.ShouldBeEmpty();
        Copy("cut", "without");
        string before = VolumeState.Files(bench.Root);
        void Run(Bench on, WriteInterceptor interceptor)
        {
            if (what != "go back to a state")
                on.BringBack(Packages, "everyone", _folder["other"], interceptor);
            else
                on.Restore(1, interceptor);
        }

        int steps = CountSteps(interceptor => Run(bench, interceptor));
        string wanted = StateOf(bench);
        int begun = 0;
        foreach (int step in Sample(steps, 16))
        {
            int seed = _random.Next();
            bench = Copy("without", "cut");
            Crash(interceptor => Run(bench, interceptor), step, seed).ShouldBeTrue();
            if (bench.Interrupted() is not null)
                begun++;
            bench.ClearParts();
            bool isEnded = bench.Interrupted() is not null && what != "bring back";
            if (isEnded && what == "bring back and finish")
                bench.Finish().Failures.ShouldBeEmpty();
            else
                RecoverInterrupted(bench);
            NothingLeft(bench);
            if (isEnded)
                StateOf(bench).ShouldBe(wanted, $"step {step} of {steps}, seed {seed}");
            else if (StateOf(bench) != wanted)
                WithoutPlaces(VolumeState.Files(bench.Root)).ShouldBe(WithoutPlaces(before), $"step {step} of {steps}, seed {seed}");
            bench.Points().ShouldAllBe(p => p.State != PointState.Interrupted, $"step {step}, seed {seed}");
        }
        begun.ShouldBeGreaterThan(3);
    }

    // The folders that hold packages have the time of the interruption, when it came before the first entry in them was whole.
    private static IEnumerable<string> WithoutPlaces(string state) => WithoutRoot(state).Split('\n').Where(l =>
        !l.StartsWith("./Program Files/WindowsApps|", StringComparison.Ordinal) && !l.Contains("/AppRepository|", StringComparison.Ordinal));

    [Fact]
    public void A_replay_of_transaction_logs_cut_off_anywhere_is_taken_back_with_the_rest()
    {
        var bench = Original();
        new StandIn.WindowsSimulator(Demo.World).PowerCut(_folder["original"]);
        bench = Copy("original", "cut");
        string before = VolumeState.Files(bench.Root);
        int steps = CountSteps(interceptor => bench.Remove(Packages, "everyone", interceptor, more: Bench.WithPrograms, replayLogs: true));
        bench.Read().Notes.ShouldNotContain(n => n.Code == "hiveReplayed");
        int begun = 0;
        foreach (int step in Sample(steps, 16))
        {
            int seed = _random.Next();
            bench = Copy("original", "cut");
            Crash(interceptor => bench.Remove(Packages, "everyone", interceptor, more: Bench.WithPrograms, replayLogs: true), step, seed)
                .ShouldBeTrue();
            if (bench.Interrupted() is not null)
                begun++;
            bench.ClearParts();
            RecoverInterrupted(bench);
            if (bench.Points() is [{ State: PointState.InEffect }])
                bench.Undo(1).Failures.ShouldBeEmpty();
            Same(bench, before, $"step {step} of {steps}, seed {seed}");
            NothingLeft(bench);
        }
        begun.ShouldBeGreaterThan(0);
    }

    private static string StateOf(Bench bench) => string.Join('\n', bench.Read().Packages.Select(p =>
        $"{p.FullName} {p.Bytes} {p.Newcomers} {p.Blocked} {string.Join(',', p.Accounts)} "
            + string.Join(';', p.Parts.SelectMany(t => t.Traces).Select(t => t.ToString()).Order(StringComparer.Ordinal))));

    [Fact]
    public void A_removal_cut_off_anywhere_can_be_finished()
    {
        var model = Original();
        int steps = CountSteps(interceptor => model.Remove(Packages, "everyone", interceptor, more: Bench.WithPrograms));
        string wanted = VolumeState.Contents(model.Root);
        string names = Tool.Read("sh", "-c", "cd \"$0\" && find . | LC_ALL=C sort", model.Root);
        int finished = 0;
        foreach (int step in Sample(steps, 20))
        {
            int seed = _random.Next();
            var bench = Copy("original", "cut");
            Crash(interceptor => bench.Remove(Packages, "everyone", interceptor, more: Bench.WithPrograms), step, seed).ShouldBeTrue();
            if (bench.Interrupted() is null)
                continue;
            finished++;
            bench.Finish().Failures.ShouldBeEmpty();
            VolumeState.Contents(bench.Root).ShouldBe(wanted, $"step {step}, seed {seed}");
            Tool.Read("sh", "-c", "cd \"$0\" && find . | LC_ALL=C sort", bench.Root).ShouldBe(names, $"step {step}, seed {seed}");
            bench.Points().ShouldHaveSingleItem().State.ShouldBe(PointState.InEffect);
            NothingLeft(bench);
        }
        finished.ShouldBeGreaterThan(5);
    }

    [Fact]
    public void An_undo_cut_off_anywhere_is_carried_on_to_the_state_before_the_run()
    {
        var model = Original();
        string before = VolumeState.Files(model.Root);
        model.Remove(Packages, "everyone", more: Bench.WithPrograms);
        Copy("cut", "removed");
        int steps = CountSteps(interceptor => model.Undo(1, interceptor: interceptor));
        Same(model, before, "not cut");
        int carriedOn = 0;
        foreach (int step in Sample(steps, 20))
        {
            int seed = _random.Next();
            var bench = Copy("removed", "cut");
            Crash(interceptor => bench.Undo(1, interceptor: interceptor), step, seed).ShouldBeTrue();
            bool marked = bench.Interrupted() is not null;
            bench.ClearParts();
            if (marked)
                carriedOn++;
            RecoverInterrupted(bench);
            if (!marked && bench.PlanUndo(1).HasEffect)
                bench.Undo(1).Failures.ShouldBeEmpty();
            Same(bench, before, $"step {step} of {steps}, seed {seed}");
            bench.Points()[0].State.ShouldBe(PointState.Undone, $"step {step}, seed {seed}");
            NothingLeft(bench);
        }
        carriedOn.ShouldBeGreaterThan(5);
    }

    [Fact]
    public void However_often_the_power_goes_while_things_are_put_right_the_end_is_the_state_before_the_first_run()
    {
        var model = Original();
        string before = VolumeState.Files(model.Root);
        int steps = CountSteps(interceptor => model.Remove(Packages, "everyone", interceptor, more: Bench.WithPrograms));
        int nested = 0;
        int rounds = Thorough.EveryStep ? 1000 : 28;
        for (int round = 0; round < rounds; round++)
        {
            string story = $"round {round}:";
            var bench = Copy("original", "cut");
            bool begun = false;
            int deep = 0;
            for (int depth = 0; depth < 3; depth++)
            {
                int step = _random.Next(1, steps + 40);
                string way = new[] { "undo", "finish", "undo of the undo" }[_random.Next(3)];
                int seed = _random.Next();
                bool cut = Crash(interceptor =>
                {
                    if (depth == 0)
                        bench.Remove(Packages, "everyone", interceptor, more: Bench.WithPrograms);
                    else
                        GoOn(bench, interceptor, way);
                }, step, seed);
                story += $" {(depth == 0 ? "remove" : way)} {(cut ? "cut" : "done")} at {step} seed {seed};";
                begun |= bench.Interrupted() is not null;
                if (cut && begun)
                    deep++;
            }
            if (deep == 3)
                nested++;
            bench.ClearParts();
            RecoverInterrupted(bench);
            if (bench.Points().FirstOrDefault() is { State: PointState.InEffect, Point.Kind: RunKind.Remove })
                bench.Undo(1).Failures.ShouldBeEmpty(); // it was finished
            Same(bench, before, story);
            bench.Points().ShouldAllBe(p => p.State != PointState.Interrupted, story);
            NothingLeft(bench);
        }
        nested.ShouldBeGreaterThan(0);
    }

    [Fact]
    public void An_undo_of_an_undo_that_an_earlier_version_left_in_the_middle_is_walked_back_to_the_beginning()
    {
        var bench = Original();
        string before = VolumeState.Files(bench.Root);
        int steps = CountSteps(interceptor => bench.Remove(Packages, "everyone", interceptor, more: Bench.WithPrograms));
        bench = Copy("original", "cut");
        // Killed among the files, so that the hives are whole.
        Crash(interceptor => bench.Remove(Packages, "everyone", interceptor, more: Bench.WithPrograms), steps - 40, null).ShouldBeTrue();
        Crash(interceptor => bench.Undo(1, interceptor: interceptor), 90, null).ShouldBeTrue();
        bench.Interrupted().ShouldBe(2);
        Copy("cut", "middle");
        int thirds = 0;
        bool cut = true;
        for (int step = 1; cut; step++)
        {
            bench = Copy("middle", "cut");
            cut = Crash(interceptor => bench.Undo(2, interceptor: interceptor, verified: false, asIfFinished: true), step, null);
            if (bench.Interrupted() == 3)
                thirds++;
            bench.ClearParts();
            RecoverInterrupted(bench);
            Same(bench, before, $"step {step}");
            bench.Points().ShouldAllBe(p => p.State != PointState.Interrupted, $"step {step}");
        }
        thirds.ShouldBeGreaterThan(3);
    }

    [Fact]
    public void A_run_that_has_returned_loses_nothing_when_the_power_goes()
    {
        var model = Original();
        string before = VolumeState.Files(model.Root);
        for (int round = 0; round < 12; round++)
        {
            int seed = _random.Next();
            var bench = Copy("original", "cut");
            Crash(interceptor => bench.Remove(Packages, "everyone", interceptor, more: Bench.WithPrograms), int.MaxValue, seed).ShouldBeFalse();
            bench.Points().ShouldHaveSingleItem().State.ShouldBe(PointState.InEffect, $"seed {seed}");
            bench.Interrupted().ShouldBeNull($"seed {seed}");
            bench.Read().Packages.ShouldNotContain(p => p.DisplayName == "Weather", $"seed {seed}");
            Crash(interceptor => bench.Undo(1, interceptor: interceptor), int.MaxValue, seed).ShouldBeFalse();
            Same(bench, before, $"seed {seed}");
            bench.Points()[0].State.ShouldBe(PointState.Undone, $"seed {seed}");
        }
    }

    [Fact]
    public void A_write_that_fails_anywhere_loses_nothing_and_leaves_nothing_behind()
    {
        var model = Original();
        string before = VolumeState.Files(model.Root);
        int steps = CountSteps(interceptor => model.Remove(Packages, "everyone", interceptor, more: Bench.WithPrograms));
        int failed = 0;
        foreach (int step in Sample(steps, 16))
        {
            var bench = Copy("original", "cut");
            Outcome? outcome = null;
            try
            {
                outcome = bench.Carry(Packages, "everyone", FailAt(step));
            }
            catch (MoorfieldException)
            {
                // refused, or interrupted: both are looked at below
            }
            if (outcome is null || !outcome.Failures.IsEmpty)
                failed++;
            Tool.Read("find", bench.Root, "-name", ".moorfield-part").ShouldBeEmpty();
            RecoverInterrupted(bench);
            if (bench.Points().Count == 1)
                bench.Undo(1).Failures.ShouldBeEmpty();
            Same(bench, before, $"step {step}");
        }
        failed.ShouldBeGreaterThan(5);
    }

    [Fact]
    public void An_undo_that_fails_in_part_is_not_taken_for_a_whole_one_and_leaves_no_parts_behind()
    {
        var model = Original();
        string before = VolumeState.Files(model.Root);
        model.Remove(Packages, "everyone", more: Bench.WithPrograms);
        Copy("cut", "removed");
        int steps = CountSteps(interceptor => model.Undo(1, interceptor: interceptor));
        int parts = 0;
        foreach (int step in Sample(steps, 20))
        {
            var bench = Copy("removed", "cut");
            Outcome? outcome = null;
            try
            {
                outcome = bench.Undo(1, interceptor: FailAt(step), verified: false);
            }
            catch (MoorfieldException)
            {
                // interrupted: looked at below
            }
            Tool.Read("find", bench.Root, "-name", ".moorfield-part").ShouldBeEmpty($"step {step}");
            RecoverInterrupted(bench);
            if (outcome is { Failures.IsEmpty: false })
            {
                parts++;
                bench.Points()[0].State.ShouldBe(PointState.UndoneInPart, $"step {step}");
                PointHistory.Newest(bench.Points(), bench.Identity())!.Point.Number.ShouldBe(1);
            }
            if (bench.Points()[0].State != PointState.Undone)
                bench.Undo(1).Failures.ShouldBeEmpty($"step {step}");
            Same(bench, before, $"step {step}");
            bench.Points()[0].State.ShouldBe(PointState.Undone, $"step {step}");
        }
        parts.ShouldBeGreaterThan(0);
    }

    [Fact]
    public void A_file_that_something_else_changed_after_the_interruption_is_left_alone()
    {
        var model = Original();
        int steps = CountSteps(interceptor => model.Remove(Packages, "everyone", interceptor, more: Bench.WithPrograms));
        var bench = Copy("original", "cut");
        Crash(interceptor => bench.Remove(Packages, "everyone", interceptor, more: Bench.WithPrograms), steps - 60, null).ShouldBeTrue();
        bench.Interrupted().ShouldBe(1);
        HiveEdit.Change(bench.Software, hive => hive.Create(@"Saltmarsh\Later"));
        byte[] changed = File.ReadAllBytes(bench.Software);
        Should.Throw<MoorfieldException>(() => bench.Finish()).Kind.ShouldBe(ErrorKind.Refused);
        File.ReadAllBytes(bench.Software).ShouldBe(changed);
        bench.Undo(1).Failures.ShouldBeEmpty();
        HiveEdit.HasKey(bench.Software, @"Saltmarsh\Later").ShouldBeTrue();
        bench.Read().Packages.ShouldContain(p => p.DisplayName == "Weather" && p.Accounts.Length == 3 && p.Newcomers && !p.Blocked);
    }

    [Fact]
    public void What_something_else_put_into_a_folder_after_the_interruption_is_not_removed_with_it()
    {
        var model = Original();
        int steps = CountSteps(interceptor => model.Remove(Packages, "everyone", interceptor, more: Bench.WithPrograms));
        var bench = Copy("original", "cut");
        Crash(interceptor => bench.Remove(Packages, "everyone", interceptor, more: Bench.WithPrograms), steps - 40, null).ShouldBeTrue();
        bench.Interrupted().ShouldBe(1);
        string foreign = Path.Combine(bench.Staged("Northlight.Weather"), "of-mine.txt");
        Directory.CreateDirectory(Path.GetDirectoryName(foreign)!);
        File.WriteAllText(foreign, "not in any restore point");
        bench.Finish().Failures.ShouldHaveSingleItem().Message.ShouldContain("left alone");
        File.Exists(foreign).ShouldBeTrue();
    }

    [Theory]
    [InlineData("after", true, "After")]
    [InlineData("before", true, "Before")]
    [InlineData("aftere", true, "HalfWritten")] // written, and not cut off yet
    [InlineData("after!", true, "Foreign")]
    [InlineData("aft", true, "Foreign")]
    [InlineData("bftor", false, "Foreign")] // only a run that was cut off leaves a file between its two contents
    [InlineData("bftere", false, "Foreign")]
    [InlineData("befter", true, "Foreign")]
    public void A_file_is_told_by_its_bytes(string now, bool interrupted, string state)
    {
        var bench = Original();
        string Keep(string text)
        {
            using var vault = Vault.Open(_folder["cut-vault"], new WriteInterceptor());
            using var content = FileContent.InMemory(System.Text.Encoding.ASCII.GetBytes(text));
            return vault.Keep(content);
        }
        var file = new ReplacedFile(WindowsPath.Of(@"Windows\file"), Keep("before"), Keep("after"), default, default);
        File.WriteAllText(Path.Combine(bench.Root, "Windows/file"), now);
        using var volume = WindowsVolume.Open(bench.Root, new WriteInterceptor());
        using var opened = Vault.OpenExisting(_folder["cut-vault"])!;
        InterruptedRun.StateOf(volume, opened, file, interrupted).ToString().ShouldBe(state);
    }

    [Fact]
    public void A_list_with_a_second_name_is_replaced_as_a_whole_or_not_at_all()
    {
        const string List = "Windows/System32/OEMDefaultAssociations.xml";
        Demo.CopyTo(_folder, "original");
        var bench = Copy("original", "cut");
        Tool.Read("ln", Path.Combine(bench.Root, List), _folder["second"]);
        byte[] before = File.ReadAllBytes(_folder["second"]);
        var steps = new List<string>();
        bench.Remove("Picture Viewer", "everyone", new WriteInterceptor((_, name) => steps.Add(name)));
        byte[] after = File.ReadAllBytes(Path.Combine(bench.Root, List));
        after.ShouldNotBe(before);
        int first = steps.FindIndex(s => s.EndsWith($"System32/{AtomicFile.PartName}", StringComparison.Ordinal));
        first.ShouldBeGreaterThan(0);
        var seen = new HashSet<bool>();
        for (int step = first + 2; step < first + 14; step++)
        {
            bench = Copy("original", "cut");
            File.Delete(_folder["second"]);
            Tool.Read("ln", Path.Combine(bench.Root, List), _folder["second"]);
            Crash(interceptor => bench.Remove("Picture Viewer", "everyone", interceptor), step, step).ShouldBeTrue();
            byte[] now = File.ReadAllBytes(Path.Combine(bench.Root, List));
            (now.AsSpan().SequenceEqual(before) || now.AsSpan().SequenceEqual(after)).ShouldBeTrue($"step {step}");
            seen.Add(now.AsSpan().SequenceEqual(after));
            File.ReadAllBytes(_folder["second"]).ShouldBe(before);
            RecoverInterrupted(bench);
            File.ReadAllBytes(Path.Combine(bench.Root, List)).ShouldBe(before, $"step {step}");
        }
        seen.Count.ShouldBe(2);
    }

    public void Dispose() => _folder.Dispose();
}
